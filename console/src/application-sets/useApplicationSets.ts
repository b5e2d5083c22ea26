import { useQuery } from '@tanstack/vue-query'
import { computed, type MaybeRefOrGetter, toValue } from 'vue'

import { api, told, type Schemas } from '@/api/client'
import { crud } from '@/api/crud'

export type ApplicationSet = Schemas['ApplicationSetSummary']
export type ApplicationSetBody = Schemas['ApplicationSet']
export type ApplicationCondition = Schemas['ApplicationCondition']

export const sets = crud<ApplicationSet, ApplicationSetBody>('application_sets')

export const useApplicationSets = sets.useAll

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
