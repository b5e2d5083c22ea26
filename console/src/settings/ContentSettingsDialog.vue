<script setup lang="ts">
import { computed, ref, watch } from 'vue'

import type { Settings } from '@/api/client'
import { settingsBody, usePutSettings, useSettings } from './useSettings'

/** How many indicators a machine may have to carry, for how long a host counts as newly registered, and for how long
 * it is kept what machines report. */
const shown = defineModel<boolean>({ required: true })
const { data: settings } = useSettings()
const put = usePutSettings()
const capacity = ref('')
const days = ref('')
const activity = ref('')
const visits = ref('')
/** What they were when the dialog opened. */
const known = ref<Settings>()
const saving = computed(() => put.isPending.value)
watch([shown, settings], () => {
  if (!shown.value || known.value) return
  known.value = settings.value
  capacity.value = String(settings.value?.indicator_capacity ?? '')
  days.value = String(settings.value?.newly_registered_days ?? '')
  activity.value = String(settings.value?.activity_days ?? '')
  visits.value = String(settings.value?.visit_days ?? '')
})
watch(shown, () => {
  put.reset()
  if (!shown.value) known.value = undefined
})
function save() {
  const numbers = {
    indicator_capacity: Number(capacity.value),
    newly_registered_days: Number(days.value),
    activity_days: Number(activity.value),
    visit_days: Number(visits.value),
  }
  put.plan(
    { body: { ...settingsBody(known.value!), ...numbers }, version: known.value!.version },
    { title: 'settings', onSuccess: () => (shown.value = false) },
  )
}
</script>

<template>
  <FormDialog
    v-model="shown"
    lazy
    title="Bounds"
    does="Save"
    :error="put.error.value"
    :disabled="saving || !known"
    @submit="save"
  >
    <label class="form-label" for="bound-capacity">Indicators that a machine may have to carry</label>
    <BFormInput id="bound-capacity" v-model="capacity" type="number" min="1" max="1000000" required />
    <label class="form-label mt-3" for="bound-days">Days for which a host counts as newly registered</label>
    <BFormInput id="bound-days" v-model="days" type="number" min="1" max="3650" required />
    <label class="form-label mt-3" for="bound-activity">Days for which activity is kept</label>
    <BFormInput id="bound-activity" v-model="activity" type="number" min="1" max="3650" required />
    <label class="form-label mt-3" for="bound-visits">Days for which it is kept where hosts were seen</label>
    <BFormInput id="bound-visits" v-model="visits" type="number" min="1" max="3650" required />
  </FormDialog>
</template>
