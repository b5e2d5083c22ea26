import { useQuery } from '@tanstack/vue-query'
import { computed, type MaybeRefOrGetter, toValue } from 'vue'

import { api, told, type Schemas } from '@/api/client'

export type Lookup = Schemas['HostLookup']

/** All that is known of a host or URL; nothing is asked while there is none. */
export const useLookup = (asked: MaybeRefOrGetter<string>) =>
  useQuery({
    queryKey: ['lookup', computed(() => toValue(asked))],
    queryFn: () => told(api.GET('/api/v1/categories/lookup', { params: { query: { url: toValue(asked) } } })),
    enabled: computed(() => toValue(asked) !== ''),
    retry: false,
  })
