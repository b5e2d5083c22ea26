import { keepPreviousData, useQuery } from '@tanstack/vue-query'
import { computed, type MaybeRefOrGetter, toValue } from 'vue'

import { api, told, type Schemas } from '@/api/client'
import { usePages } from '@/api/paging'
import type { paths } from '@/api/schema'

export type ActivityFilters = NonNullable<paths['/api/v1/activity']['get']['parameters']['query']>

/** Reported attempts, newest first, a page at a time. */
export function useActivity(filters: MaybeRefOrGetter<ActivityFilters>) {
  return usePages(['activity', computed(() => toValue(filters))], (cursor) =>
    told(api.GET('/api/v1/activity', { params: { query: { ...toValue(filters), cursor } } })),
  )
}

export type ActivityCounts = Schemas['ActivityCounts']
export type CountFilters = NonNullable<paths['/api/v1/activity/counts']['get']['parameters']['query']>

/** What came of attempts that machines report one by one, in words. */
export const VERDICTS = [
  { verdict: 'block', word: 'stopped' },
  { verdict: 'warn', word: 'warned of' },
  { verdict: 'allow', word: 'recorded' },
] as const

/** How many attempts there were, day by day or hour by hour, and what was tried most often. */
export const useActivityCounts = (filters: MaybeRefOrGetter<CountFilters>) =>
  useQuery({
    queryKey: ['activity', 'counts', computed(() => toValue(filters))],
    queryFn: () => told(api.GET('/api/v1/activity/counts', { params: { query: toValue(filters) } })),
    placeholderData: keepPreviousData,
  })
