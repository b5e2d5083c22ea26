<script setup lang="ts">
import { useNow } from '@vueuse/core'
import { computed, ref } from 'vue'

import { useSession } from '@/access/useSession'
import { useEditor } from '@/editing/useEditor'
import { type Schedule, type ScheduleBody, schedules, useReadDaysOff, useScheduleNow } from './useSchedules'
import { DAYS, wallClock } from './week'

/** Edit a schedule: its windows over the week, its zone, its days off; and what it does at this minute. */
const props = defineProps<{ schedule?: Schedule }>()
const emit = defineEmits<{ saved: [key: string] }>()
const { mayAuthor } = useSession()
type Window = ScheduleBody['windows'][number]
const workday = (): Window => ({ days: ['mon', 'tue', 'wed', 'thu', 'fri'], from: '06:00', to: '18:00' })
const editor = useEditor({
  noun: 'schedule',
  saved: () => props.schedule,
  draftOf: (saved) => ({
    key: saved?.key ?? '',
    name: saved && saved.name !== saved.key ? saved.name : '',
    zone: saved?.zone ?? 'device',
    windows: (saved?.windows ?? [workday()]) as Window[],
    days_off: (saved?.days_off ?? []) as string[],
  }),
  bodyOf: (draft): ScheduleBody => ({
    ...draft,
    key: draft.key.trim(),
    name: draft.name.trim() || null,
    zone: draft.zone.trim() || 'device',
  }),
  calls: schedules,
  done: (key) => emit('saved', key),
})
const { draft, body } = editor
const complete = computed(() =>
  body.value.windows.every(({ days, from, to }) => days.length && from && to)
    ? { ...body.value, key: body.value.key || 'new' }
    : null,
)
const { data: told } = useScheduleNow(complete)
const moment = useNow({ interval: 15_000 })
const now = computed(() => wallClock(moment.value, body.value.zone))
function toggle(window: Window, day: Window['days'][number]) {
  const days = new Set(window.days)
  if (!days.delete(day)) days.add(day)
  window.days = DAYS.map(({ key }) => key).filter((key) => days.has(key))
}

const reading = useReadDaysOff()
const dayOff = ref('')
function addDays(days: string[]) {
  draft.value.days_off = [...new Set([...draft.value.days_off, ...days])].sort()
}
async function readFile(event: Event) {
  const input = event.target as HTMLInputElement
  const text = await input.files?.[0]?.text()
  input.value = ''
  if (text) reading.mutate(text, { onSuccess: (days) => addDays(days) })
}
</script>

<template>
  <div class="editor">
    <EditorForm
      :editor="editor"
      key-example="watch-hours"
      name-example="Watch hours"
      :blocked="!complete"
      :removable="schedule && !schedule.assignments.length"
    >
      <p class="sentence" role="status">
        <b>{{ told?.now ?? '…' }}</b> <span class="dim">{{ told?.sentence }}</span>
        <span v-if="body.zone === 'device'" class="dim"> Shown on UTC.</span>
      </p>
      <template #below><WeekGrid class="grid" :schedule="body" :now="now" /></template>
    </EditorForm>

    <section class="panel" aria-label="Windows">
      <h2>Windows</h2>
      <div v-for="(window, place) in draft.windows" :key="place" class="window">
        <fieldset class="days" :disabled="!mayAuthor">
          <legend class="visually-hidden">Days of window {{ place + 1 }}</legend>
          <button
            v-for="day in DAYS"
            :key="day.key"
            type="button"
            class="day"
            :class="{ on: window.days.includes(day.key) }"
            :aria-pressed="window.days.includes(day.key)"
            @click="toggle(window, day.key)"
          >
            {{ day.short }}
          </button>
        </fieldset>
        <BFormInput
          v-model="window.from"
          type="time"
          class="time"
          :aria-label="`Window ${place + 1} from`"
          :disabled="!mayAuthor"
        />
        <span>to</span>
        <BFormInput
          v-model="window.to"
          type="time"
          class="time"
          :aria-label="`Window ${place + 1} to`"
          :disabled="!mayAuthor"
        />
        <span class="small dim">{{
          window.to && window.to !== '00:00' && window.to <= window.from ? 'the next day' : ''
        }}</span>
        <BButton
          v-if="draft.windows.length > 1"
          v-needs:author
          variant="link"
          :aria-label="`Remove window ${place + 1}`"
          @click="draft.windows.splice(place, 1)"
          ><Icon name="cross"
        /></BButton>
      </div>
      <BButton v-needs:author variant="link" @click="draft.windows.push(workday())"
        ><Icon name="plus" /> Window</BButton
      >
      <label class="form-label mt-3 d-block" for="zone">Clock</label>
      <BFormInput
        id="zone"
        v-model="draft.zone"
        class="zone"
        maxlength="64"
        :disabled="!mayAuthor"
        aria-describedby="zone-help"
      />
      <div id="zone-help" class="small dim">
        “device” for each machine's own, or a zone such as Atlantic/Faroe.
      </div>
    </section>

    <section class="panel" aria-label="Days off">
      <h2>Days off</h2>
      <p class="sub">On these dates no window opens; one that opened the day before runs out.</p>
      <ul v-if="draft.days_off.length" class="off">
        <li v-for="day in draft.days_off" :key="day" class="chip">
          {{ day }}
          <BButton
            v-needs:author
            variant="link"
            class="p-0"
            :aria-label="`Remove ${day}`"
            @click="draft.days_off = draft.days_off.filter((one) => one !== day)"
            ><Icon name="cross"
          /></BButton>
        </li>
      </ul>
      <div v-needs:author class="adding">
        <BFormInput v-model="dayOff" type="date" class="date" aria-label="Day off" />
        <BButton variant="light" :disabled="!dayOff" @click="addDays([dayOff])">Add day</BButton>
        <label class="btn btn-light file" for="calendar">From an iCalendar file…</label>
        <input
          id="calendar"
          type="file"
          accept=".ics,text/calendar"
          class="visually-hidden"
          @change="readFile"
        />
      </div>
      <p v-if="reading.error.value" class="wrong" role="alert">
        <Icon name="exclamation" /> {{ reading.error.value.message }}
      </p>
    </section>

    <section v-if="schedule" class="panel" aria-label="Use">
      <h2>Where it is used</h2>
      <p v-if="!schedule.assignments.length" class="sub mb-2">In no assignment yet.</p>
      <p v-else class="mb-2">{{ schedule.assignments.join(', ') }}</p>
    </section>
  </div>
</template>

<style scoped>
.sentence {
  margin: 0.7rem 0 0.8rem;
}
.window,
.adding {
  display: flex;
  align-items: center;
  flex-wrap: wrap;
  gap: 0.5rem;
  margin-bottom: 0.5rem;
}
.days {
  display: flex;
  gap: 0.2rem;
}
.day {
  border: 1px solid var(--line);
  background: var(--card);
  color: var(--ink-2);
  border-radius: 0.3rem;
  padding: 0.2rem 0.5rem;
  font-size: 0.8125rem;
}
.day.on {
  background: var(--brass-wash);
  border-color: var(--brass-2);
  color: var(--ink);
  font-weight: 600;
}
.time,
.date {
  width: auto;
}
.zone {
  max-width: 16rem;
}
.off {
  display: flex;
  flex-wrap: wrap;
  gap: 0.35rem;
  padding: 0;
  list-style: none;
}
.file {
  margin: 0;
}
#calendar:focus-visible {
  outline: 2px solid var(--brass-2);
}
.wrong {
  color: var(--block);
}
</style>
