<script setup lang="ts">
import { computed } from 'vue'

import type { ScheduleBody } from './useSchedules'
import { DAYS } from './week'

/** A week at a glance: when the windows are open, and where in it this minute stands. */
const props = defineProps<{ schedule: ScheduleBody; now: { day: number; minute: number } }>()

const minutes = (text: string) => Number(text.slice(0, 2)) * 60 + Number(text.slice(3))
/** For each day the spans that are open, in minutes; what runs over midnight shows on both days. */
const spans = computed(() => {
  const week: { from: number; to: number }[][] = DAYS.map(() => [])
  for (const window of props.schedule.windows) {
    if (!/^\d\d:\d\d$/.test(window.from) || !/^\d\d:\d\d$/.test(window.to)) continue
    const [from, to] = [minutes(window.from), minutes(window.to)]
    for (const name of window.days) {
      const day = DAYS.findIndex(({ key }) => key === name)
      week[day].push({ from, to: to > from ? to : 1440 })
      if (to <= from && to > 0) week[(day + 1) % 7].push({ from: 0, to })
    }
  }
  return week
})
const place = (from: number, to: number) => ({
  left: `${(from / 1440) * 100}%`,
  width: `${((to - from) / 1440) * 100}%`,
})
const isOpen = (day: number) =>
  spans.value[day].some(({ from, to }) => from <= props.now.minute && props.now.minute < to)
</script>

<template>
  <div class="week" role="img" :aria-label="`The week of ${schedule.key || 'this schedule'}`">
    <div class="hours" aria-hidden="true">
      <span v-for="hour in [0, 6, 12, 18, 24]" :key="hour" :style="{ left: `${(hour / 24) * 100}%` }">{{
        String(hour).padStart(2, '0')
      }}</span>
    </div>
    <div v-for="(day, number) in DAYS" :key="day.key" class="day">
      <span class="name" :class="{ today: number === now.day }">{{ day.short }}</span>
      <div class="bar">
        <span v-for="(span, at) in spans[number]" :key="at" class="span" :style="place(span.from, span.to)" />
        <span
          v-if="number === now.day"
          class="now"
          :class="{ open: isOpen(number) }"
          :style="{ left: `${(now.minute / 1440) * 100}%` }"
        />
      </div>
    </div>
  </div>
</template>

<style scoped>
.week {
  display: grid;
  gap: 0.3rem;
}
.hours {
  position: relative;
  height: 1.1rem;
  margin-left: 3rem;
  font-size: 0.75rem;
  color: var(--ink-2);
}
.hours span {
  position: absolute;
  transform: translateX(-50%);
}
.day {
  display: grid;
  grid-template-columns: 3rem 1fr;
  align-items: center;
}
.name {
  font-size: 0.8125rem;
  color: var(--ink-2);
}
.today {
  color: var(--ink);
  font-weight: 650;
}
.bar {
  position: relative;
  height: 1.15rem;
  background: var(--wash);
  border: 1px solid var(--line);
  border-radius: 0.25rem;
  overflow: hidden;
  background-image: linear-gradient(to right, var(--line) 1px, transparent 1px);
  background-size: 25% 100%;
}
.span {
  position: absolute;
  top: 0;
  bottom: 0;
  background: var(--brass-2);
  opacity: 0.75;
}
.now {
  position: absolute;
  top: 0;
  bottom: 0;
  width: 3px;
  margin-left: -1px;
  background: var(--ink);
}
</style>
