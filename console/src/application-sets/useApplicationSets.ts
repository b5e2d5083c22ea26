import { useQuery } from '@tanstack/vue-query'
import { computed, type MaybeRefOrGetter, toValue } from 'vue'

import { api, told, type Schemas } from '@/api/client'
import { crud } from '@/api/crud'

export type ApplicationSet = Schemas['ApplicationSetSummary']
export type ApplicationSetBody = Schemas['ApplicationSet']
export type ApplicationCondition = Schemas['ApplicationCondition']

/** The fields of a condition whose values are offered from the catalogue. */
export const OFFERED = ['product', 'file', 'vendor', 'category'] as const

export type Catch = Schemas['Catch']
export type Caught = Schemas['CaughtProgram']

export const sets = crud<ApplicationSet, ApplicationSetBody>('application_sets')

export const useApplicationSets = sets.useAll

/** What a set, saved or not, catches on the fleet now. */
export const useCatch = (set: MaybeRefOrGetter<ApplicationSetBody | null>) =>
  useQuery({
    queryKey: ['applications', 'catch', computed(() => toValue(set))],
    queryFn: () => told(api.POST('/api/v1/application-sets/catch', { body: toValue(set)! })),
    enabled: computed(() => toValue(set) !== null),
    placeholderData: (before) => before,
    retry: false,
  })

/** What was started on a group's machines today and so many days before. */
export const fetchStarted = (group: string, days: number) =>
  told(api.GET('/api/v1/application-starts', { params: { query: { group, days } } }))

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
