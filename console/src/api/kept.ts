import { useQuery } from '@tanstack/vue-query'
import { computed, toValue, type MaybeRefOrGetter } from 'vue'

import { changing, key, match } from './changing'
import { api, told } from './client'
import type { components } from './schema'

type Schemas = components['schemas']
export type Schedule = Schemas['ScheduleSummary']
export type ScheduleBody = Schemas['Schedule']
export type ApplicationSet = Schemas['ApplicationSetSummary']
export type ApplicationSetBody = Schemas['ApplicationSet']
export type ApplicationCondition = Schemas['ApplicationCondition']
export type Service = Schemas['ServiceSummary']
export type ServiceBody = Schemas['Service']

const SUBJECTS = [
  'schedules',
  'application-sets',
  'services',
  'assignments',
  'rulesets',
  'revisions',
  'rollout',
]
const useChange = changing(SUBJECTS)

// --- schedules ---

/** All schedules, with what each does at this minute. */
export const useSchedules = () =>
  useQuery({
    queryKey: ['schedules'],
    queryFn: async () => (await told(api.GET('/api/v1/schedules'))).items,
    refetchInterval: 30_000,
  })

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

export const useCreateSchedule = () =>
  useChange((body: ScheduleBody, query) =>
    told(api.POST('/api/v1/schedules', { params: { query }, body, headers: key() })),
  )
export const usePutSchedule = () =>
  useChange(({ body, version }: { body: ScheduleBody; version: number }, query) =>
    told(
      api.PUT('/api/v1/schedules/{key}', {
        params: { path: { key: body.key }, query },
        body,
        headers: match(version),
      }),
    ),
  )
export const useRemoveSchedule = () =>
  useChange(({ key: own, version }: { key: string; version: number }, query) =>
    told(
      api.DELETE('/api/v1/schedules/{key}', {
        params: { path: { key: own }, query },
        headers: match(version),
      }),
    ),
  )

/** The days off that an iCalendar file holds. */
export const useReadDaysOff = () =>
  useChange((calendar: string) => told(api.POST('/api/v1/days-off', { body: { calendar } })))

// --- application sets ---

/** All application sets. */
export const useApplicationSets = () =>
  useQuery({
    queryKey: ['application-sets'],
    queryFn: async () => (await told(api.GET('/api/v1/application-sets'))).items,
  })

/** An application set, saved or not, in words. */
export const useSetSentence = (set: MaybeRefOrGetter<ApplicationSetBody | null>) =>
  useQuery({
    queryKey: ['set-sentence', computed(() => toValue(set))],
    queryFn: async () =>
      (await told(api.POST('/api/v1/sentences/application-set', { body: toValue(set)! }))).sentence,
    enabled: computed(() => toValue(set) !== null),
    placeholderData: (before) => before,
    retry: false,
  })

export const useCreateSet = () =>
  useChange((body: ApplicationSetBody, query) =>
    told(api.POST('/api/v1/application-sets', { params: { query }, body, headers: key() })),
  )
export const usePutSet = () =>
  useChange(({ body, version }: { body: ApplicationSetBody; version: number }, query) =>
    told(
      api.PUT('/api/v1/application-sets/{key}', {
        params: { path: { key: body.key }, query },
        body,
        headers: match(version),
      }),
    ),
  )
export const useRemoveSet = () =>
  useChange(({ key: own, version }: { key: string; version: number }, query) =>
    told(
      api.DELETE('/api/v1/application-sets/{key}', {
        params: { path: { key: own }, query },
        headers: match(version),
      }),
    ),
  )

// --- services ---

/** All services. */
export const useServices = () =>
  useQuery({
    queryKey: ['services'],
    queryFn: async () => (await told(api.GET('/api/v1/services'))).items,
  })

export const useCreateService = () =>
  useChange((body: ServiceBody, query) =>
    told(api.POST('/api/v1/services', { params: { query }, body, headers: key() })),
  )
export const usePutService = () =>
  useChange(({ body, version }: { body: ServiceBody; version: number }, query) =>
    told(
      api.PUT('/api/v1/services/{key}', {
        params: { path: { key: body.key }, query },
        body,
        headers: match(version),
      }),
    ),
  )
export const useRemoveService = () =>
  useChange(({ key: own, version }: { key: string; version: number }, query) =>
    told(
      api.DELETE('/api/v1/services/{key}', {
        params: { path: { key: own }, query },
        headers: match(version),
      }),
    ),
  )
