import { useQuery } from '@tanstack/vue-query'
import { computed, type MaybeRefOrGetter, toValue } from 'vue'

import { api, told } from '@/api/client'

/** What is meant by a moment as people write it, read by the service on the clock of its settings. */
export const useMoment = (text: MaybeRefOrGetter<string>, ends: boolean) =>
  useQuery({
    queryKey: ['moment', computed(() => toValue(text)), ends],
    queryFn: () => told(api.GET('/api/v1/moment', { params: { query: { text: toValue(text), ends } } })),
    enabled: computed(() => !!toValue(text)),
    retry: false,
    staleTime: 60_000,
  })
