<script setup lang="ts">
import { reactive, watch } from 'vue'

import { usePutCorrection } from './useCorrections'

/** Say in which categories a host is, in place of what feeds say, and why. */
const props = defineProps<{
  host?: string
  categories?: readonly string[]
  reason?: string | null
  version?: number
}>()
const shown = defineModel<boolean>({ required: true })
const put = usePutCorrection()
const draft = reactive({ host: '', categories: [] as string[], reason: '' })
watch(shown, () => {
  put.reset()
  Object.assign(draft, {
    host: props.host ?? '',
    categories: (props.categories ?? []).filter((key) => key !== 'uncategorised'),
    reason: props.reason ?? '',
  })
})
function save() {
  const body = { host: draft.host.trim(), categories: draft.categories, reason: draft.reason.trim() || null }
  put.plan(
    { body, version: props.version },
    { title: `categories of ${body.host}`, onSuccess: () => (shown.value = false) },
  )
}
</script>

<template>
  <FormDialog
    v-model="shown"
    title="Correct a host’s categories"
    does="Save"
    :error="put.error.value"
    :disabled="put.isPending.value || !draft.categories.length"
    @submit="save"
  >
    <label class="form-label" for="correction-host"
      >Host, and all below it that has no entry of its own</label
    >
    <BFormInput
      id="correction-host"
      v-model="draft.host"
      class="mono"
      required
      maxlength="400"
      placeholder="crew-rota.example"
      :readonly="version !== undefined"
    />
    <CategoryPicker v-model="draft.categories" legend="Categories" class="mt-3" />
    <label class="form-label mt-3" for="correction-reason">Why</label>
    <BFormTextarea
      id="correction-reason"
      v-model="draft.reason"
      required
      rows="2"
      maxlength="2000"
      placeholder="Our own rota"
    />
  </FormDialog>
</template>
