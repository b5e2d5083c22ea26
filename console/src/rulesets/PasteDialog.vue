<script setup lang="ts">
import { computed, ref, watch } from 'vue'

import type { Action, Rule } from '@/api/client'
import { addressesIn } from '@/lib/addressLines'
import { counted } from '@/lib/words'

/** Many site patterns at once, pasted or from a file, into a list that is being written. */
defineProps<{ actions: Action[] }>()
const emit = defineEmits<{ rules: [rules: Rule[]] }>()
const shown = defineModel<boolean>({ required: true })
const text = ref('')
const action = ref<Action>('block')
const patterns = computed(() => addressesIn(text.value))
watch(shown, () => (text.value = ''))
function take() {
  emit(
    'rules',
    patterns.value.map((pattern) => ({ pattern, action: action.value })),
  )
  shown.value = false
}
</script>

<template>
  <FormDialog
    v-model="shown"
    title="Paste patterns"
    :does="`Take ${counted(patterns.length, 'pattern')}`"
    :disabled="!patterns.length"
    @submit="take"
  >
    <AddressLines v-model="text" label="Patterns, one a line" />
    <label class="form-label mt-3" for="paste-action">What to do about them</label>
    <BFormSelect id="paste-action" v-model="action" :options="actions" />
    <p class="sub small mt-2 mb-0">
      They come into the list that is being written; one that stands there already gets this action.
    </p>
  </FormDialog>
</template>
