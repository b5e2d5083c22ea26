<script setup lang="ts">
import { computed, reactive, ref, watch } from 'vue'

import { useSession } from '@/access/useSession'
import type { Settings } from '@/api/client'
import { useSaving } from '@/editing/useSaving'
import { settingsBody, usePutSettings, useSettings } from './useSettings'

/** What holds for the whole estate, beside its layers: the clock, check-ins, bounds, and for how long things are kept. */
const settings = useSettings()
const put = usePutSettings()
const { mayKeep } = useSession()

const NUMBERS = [
  {
    key: 'check_in_seconds',
    label: 'Seconds between check-ins',
    hint: 'Machines take a change at their next check-in. Groups may say otherwise.',
    min: 15,
    max: 86_400,
  },
  {
    key: 'indicator_capacity',
    label: 'Indicators that a machine may have to carry',
    hint: 'A change that would give any machine more is refused.',
    min: 1,
    max: 1_000_000,
  },
  {
    key: 'newly_registered_days',
    label: 'Days for which a host counts as newly registered',
    hint: 'By the day on which its name was registered, as feeds tell it.',
    min: 1,
    max: 3650,
  },
  {
    key: 'activity_days',
    label: 'Days for which activity is kept',
    hint: 'What machines stopped, warned of and recorded.',
    min: 1,
    max: 3650,
  },
  {
    key: 'visit_days',
    label: 'Days for which it is kept where hosts were seen',
    hint: 'Counts by host and day, without people.',
    min: 1,
    max: 3650,
  },
  {
    key: 'facts_days',
    label: 'Days for which earlier facts of machines are kept',
    hint: 'By them it is told what a machine would have done then.',
    min: 1,
    max: 3650,
  },
] as const
const ZONES = ['UTC', ...Intl.supportedValuesOf('timeZone').filter((name) => name !== 'UTC')]

const UNDECIDED = [
  { value: 'pass', text: 'pass: the program starts' },
  { value: 'refuse', text: 'refuse: the program does not start' },
]

const draftOf = (value: Settings | undefined) => ({
  name: value?.name ?? '',
  zone: value?.zone ?? 'UTC',
  undecided_starts: value?.undecided_starts ?? 'pass',
  ...(Object.fromEntries(NUMBERS.map(({ key }) => [key, String(value?.[key] ?? '')])) as Record<
    (typeof NUMBERS)[number]['key'],
    string
  >),
})
/** The settings that the draft began with. */
const base = ref<Settings>()
const draft = reactive(draftOf(undefined))
function reset() {
  base.value = settings.data.value
  Object.assign(draft, draftOf(base.value))
}
const changed = computed(() => JSON.stringify(draft) !== JSON.stringify(draftOf(base.value)))
// what others save shows at once, unless it would take away what is being edited
watch(settings.data, () => changed.value || reset())
reset()

function body() {
  const { name, zone, undecided_starts, ...numbers } = draft
  const read = Object.fromEntries(Object.entries(numbers).map(([key, text]) => [key, Number(text)]))
  return {
    ...settingsBody(base.value!),
    name: name.trim() || null,
    zone: zone.trim(),
    undecided_starts,
    ...read,
  }
}
const { save, keepMine, takeTheirs } = useSaving(
  put,
  { body, version: () => base.value!.version, reset },
  () => 'settings',
)
</script>

<template>
  <div class="page">
    <SettingsTabs />
    <PageHead title="Settings">
      <span
        >What holds for the whole estate.
        <RouterLink :to="{ name: 'layers' }">What layers should do</RouterLink> stands with the fleet.</span
      >
    </PageHead>
    <StateBox :loading="settings.isPending.value" :error="settings.error.value" @retry="settings.refetch()">
      <form class="panel mt-3" aria-label="Settings of the estate" @submit.prevent="save">
        <fieldset :disabled="!mayKeep">
          <label class="form-label" for="setting-name">Name of the estate</label>
          <BFormInput
            id="setting-name"
            v-model="draft.name"
            maxlength="120"
            placeholder="Brackwater Ferries"
          />
          <p class="small dim">As evidence names it.</p>
          <label class="form-label" for="setting-zone">Clock</label>
          <BFormInput
            id="setting-zone"
            v-model="draft.zone"
            list="zones"
            required
            maxlength="64"
            aria-describedby="setting-zone-hint"
          />
          <datalist id="zones"><option v-for="name in ZONES" :key="name" :value="name" /></datalist>
          <p id="setting-zone-hint" class="small dim">
            An IANA name, such as Europe/Berlin. Days and times that name no zone are read on it, and shown on
            it.
          </p>
          <template v-for="number in NUMBERS" :key="number.key">
            <label class="form-label" :for="`setting-${number.key}`">{{ number.label }}</label>
            <BFormInput
              :id="`setting-${number.key}`"
              v-model="draft[number.key]"
              type="number"
              :min="number.min"
              :max="number.max"
              required
              :aria-describedby="`setting-${number.key}-hint`"
            />
            <p :id="`setting-${number.key}-hint`" class="small dim">{{ number.hint }}</p>
          </template>
          <label class="form-label" for="setting-undecided"
            >What a start gets that is not decided in time</label
          >
          <BFormSelect
            id="setting-undecided"
            v-model="draft.undecided_starts"
            :options="UNDECIDED"
            aria-describedby="setting-undecided-hint"
          />
          <p id="setting-undecided-hint" class="small dim">
            A machine's guard of program starts has half a second, as for a very large program that it has not
            read yet.
          </p>
        </fieldset>
        <SaveProblem
          :problem="put.error.value"
          :mine="changed ? body() : undefined"
          @take="takeTheirs"
          @keep="keepMine"
        />
        <div v-if="changed" class="buttons">
          <BButton variant="light" @click="reset">Undo changes</BButton>
          <BButton type="submit" variant="primary" :disabled="put.isPending.value">Save</BButton>
        </div>
      </form>
    </StateBox>
  </div>
</template>

<style scoped>
.panel {
  max-width: 40rem;
}
.panel input,
.panel select {
  max-width: 20rem;
}
.buttons {
  display: flex;
  justify-content: flex-end;
  gap: 0.5rem;
}
</style>
