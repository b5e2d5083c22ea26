<script setup lang="ts">
import { refDebounced } from '@vueuse/core'
import { computed, ref, shallowRef, useId, watch } from 'vue'

import type { Schemas } from '@/api/client'
import { useMoment } from '@/lib/useMoment'

/**
 * A moment as people write it: a day, a day with a time, “in 3 days”. The service reads it and it is said back. The
 * model is RFC 3339, null for none, and undefined while what is written is not read, or is none.
 */
const props = defineProps<{ label: string; ends?: boolean; required?: boolean; begin?: string }>()
const moment = defineModel<string | null | undefined>({ required: true })
const id = useId()
const text = ref(moment.value ?? props.begin ?? '')
const written = computed(() => text.value.trim())
const settled = refDebounced(written, 250)
const { data, error } = useMoment(settled, props.ends ?? false)
/** What was read last: it also stands for its own form on the clock of the settings. */
const known = shallowRef<Schemas['MomentRead']>()
const read = computed(() => {
  if (known.value && known.value.local === written.value) return known.value
  return settled.value === written.value && !error.value ? data.value : undefined
})
const fault = computed(() =>
  written.value && settled.value === written.value && !read.value ? error.value : null,
)

watch(
  [written, read],
  () => {
    const found = read.value
    moment.value = written.value ? found?.moment : null
    if (!found) return
    known.value = found
    // what was kept is shown on the clock of the settings
    if (text.value === found.moment) text.value = found.local
  },
  { immediate: true },
)
// what is put here from outside replaces what was written
watch(moment, (now) => {
  if (now === null) text.value = ''
  else if (now && now !== read.value?.moment) text.value = now
})
</script>

<template>
  <div class="moment">
    <label class="form-label" :for="id">{{ label }}</label>
    <BFormInput
      :id="id"
      v-model="text"
      :required="required"
      maxlength="60"
      placeholder="2026-12-24, tomorrow, in 3 days"
      autocomplete="off"
      :aria-describedby="`${id}-read`"
      :state="fault ? false : null"
    />
    <p :id="`${id}-read`" class="small read" :class="fault ? 'wrong' : 'dim'" aria-live="polite">
      {{ fault?.message ?? (written ? read?.sentence : '') }}
    </p>
  </div>
</template>

<style scoped>
.read {
  min-height: 1.3em;
  margin: 0.15rem 0 0;
}
.wrong {
  color: var(--block);
}
</style>
