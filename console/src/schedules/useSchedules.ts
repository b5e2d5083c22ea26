import { useQuery } from '@tanstack/vue-query'
import { computed, type MaybeRefOrGetter, toValue } from 'vue'

import { changing } from '@/api/changing'
import { api, told, type Schemas } from '@/api/client'
import { crud } from '@/api/crud'

export type Schedule = Schemas['ScheduleSummary']
export type ScheduleBody = Schemas['Schedule']

export const schedules = crud<Schedule, ScheduleBody>('schedules')

/** All schedules, with what each does at this minute. */
export const useSchedules = () => schedules.useAll({ refetchInterval: 30_000 })

/** A schedule, saved or not, in words: what it does now, and until when. */
export const useScheduleNow = (schedule: MaybeRefOrGetter<ScheduleBody | null>) =>
  useQuery({
    queryKey: ['schedule-now', computed(() => toValue(schedule))],
    queryFn: () => told(api.POST('/api/v1/sentences/schedule', { body: toValue(schedule)! })),
    enabled: computed(() => toValue(schedule) !== null),
    placeholderData: (before) => before,
    refetchInterval: 30_000,
    retry: false,
  })

/** The days off that an iCalendar file holds. */
export const useReadDaysOff = () =>
  changing([])((calendar: string) => told(api.POST('/api/v1/days-off', { body: { calendar } })))
