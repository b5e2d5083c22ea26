import { computed, type MaybeRefOrGetter, toValue } from 'vue'

import { api, told } from '@/api/client'
import { usePages } from '@/api/paging'
import type { paths } from '@/api/schema'

export type ActivityFilters = NonNullable<paths['/api/v1/activity']['get']['parameters']['query']>

/** Reported attempts, newest first, a page at a time. */
export function useActivity(filters: MaybeRefOrGetter<ActivityFilters>) {
  return usePages(['activity', computed(() => toValue(filters))], (cursor) =>
    told(api.GET('/api/v1/activity', { params: { query: { ...toValue(filters), cursor } } })),
  )
}
