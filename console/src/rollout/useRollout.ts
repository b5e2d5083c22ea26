import { keepPreviousData, useQuery } from '@tanstack/vue-query'
import { computed, type MaybeRefOrGetter, toValue } from 'vue'

import { api, told } from '@/api/client'
import type { paths } from '@/api/schema'

export type RolloutFilters = NonNullable<paths['/api/v1/rollout']['get']['parameters']['query']>

/** How many devices, or of those that filters leave, are in each roll-out state. */
export function useRollout(filters: MaybeRefOrGetter<RolloutFilters> = {}) {
  return useQuery({
    queryKey: ['rollout', computed(() => toValue(filters))],
    queryFn: () => told(api.GET('/api/v1/rollout', { params: { query: toValue(filters) } })),
    placeholderData: keepPreviousData,
  })
}
