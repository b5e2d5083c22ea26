import { useQuery } from '@tanstack/vue-query'
import { computed, type MaybeRefOrGetter, toValue } from 'vue'

import { api, told } from '@/api/client'

/** How many machines really enforce each layer, and what keeps the others from it. */
export function useReadiness(scope: MaybeRefOrGetter<{ unit?: string; group?: string }>) {
  return useQuery({
    queryKey: ['readiness', computed(() => toValue(scope))],
    queryFn: () => told(api.GET('/api/v1/readiness', { params: { query: toValue(scope) } })),
  })
}

/** How each unit right below another one stands. */
export function useUnitReadiness(below: MaybeRefOrGetter<string | undefined>) {
  return useQuery({
    queryKey: ['readiness', 'units', computed(() => toValue(below))],
    queryFn: () => told(api.GET('/api/v1/readiness/units', { params: { query: { below: toValue(below) } } })),
  })
}
