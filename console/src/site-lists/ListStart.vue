<script setup lang="ts">
import { computed, useId } from 'vue'

import type { RulesetBody } from '@/api/client'
import { useSwitch } from './useSiteTrial'

/** How a site list begins: with everything open but what it names, or nothing. Switching turns what it names over. */
const props = defineProps<{ ruleset: RulesetBody; disabled?: boolean }>()
const emit = defineEmits<{ begun: [ruleset: RulesetBody] }>()
const id = useId()
const change = useSwitch()
const STARTS = [
  { value: 'open', text: 'Everything is open but these' },
  { value: 'closed', text: 'Nothing is open but these' },
]
const start = computed(() =>
  props.ruleset.rules?.some(({ pattern, action }) => pattern === '*' && action === 'block')
    ? 'closed'
    : 'open',
)
function choose(wanted: unknown) {
  if (wanted === start.value) return
  const body = { ...props.ruleset, key: props.ruleset.key || 'being-written', name: null }
  change.mutate(body, { onSuccess: (made) => emit('begun', made as RulesetBody) })
}
</script>

<template>
  <div class="start">
    <label class="form-label" :for="id">This list</label>
    <BFormSelect
      :id="id"
      :model-value="start"
      :options="STARTS"
      :disabled="disabled || change.isPending.value"
      @update:model-value="choose"
    />
    <p v-if="change.error.value" class="wrong small mb-0" role="alert">
      <Icon name="exclamation" /> {{ change.error.value.message }}
    </p>
  </div>
</template>

<style scoped>
.start {
  max-width: 22rem;
  padding: 0.9rem 1.1rem 0;
}
.wrong {
  color: var(--block);
}
</style>
