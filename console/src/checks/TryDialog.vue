<script setup lang="ts">
import { refDebounced } from '@vueuse/core'
import { computed, nextTick, ref, useTemplateRef, watch } from 'vue'

import { useDevices } from '@/devices/useDevices'
import AttemptTry from './AttemptTry.vue'

/** Try an address on a machine of one's choice, without leaving the page. */
const props = defineProps<{ url: string }>()
const shown = defineModel<boolean>({ required: true })
const machine = ref('')
const sought = refDebounced(machine, 200)
const devices = useDevices(computed(() => ({ search: sought.value.trim() || undefined, limit: 8 })))
const known = computed(() => devices.items.value?.find(({ hostname }) => hostname === machine.value.trim()))
const trying = useTemplateRef<InstanceType<typeof AttemptTry>>('trying')

watch([known, shown, () => props.url], async () => {
  if (!known.value || !shown.value) return
  await nextTick()
  trying.value?.tryIt(props.url)
})
</script>

<template>
  <BModal v-model="shown" title="Try it on a machine" title-tag="h2" no-footer size="lg">
    <p class="sub">
      What is meant for <code>{{ url }}</code>, and what the machine would really do. Nothing is visited.
    </p>
    <label class="form-label" for="try-machine">Machine</label>
    <BFormInput
      id="try-machine"
      v-model="machine"
      list="try-machines"
      placeholder="part of its name"
      autocomplete="off"
      maxlength="253"
    />
    <datalist id="try-machines">
      <option v-for="item in devices.items.value ?? []" :key="item.id" :value="item.hostname" />
    </datalist>
    <AttemptTry v-if="known" ref="trying" :key="known.id" :device="known.hostname" class="mt-3" />
  </BModal>
</template>
