import { useQuery } from '@tanstack/vue-query'
import { computed, type MaybeRefOrGetter, toValue } from 'vue'

import { api, told } from '@/api/client'

/** People and user groups in whose names a text stands; nothing is asked while there is none. */
export const usePeople = (text: MaybeRefOrGetter<string>, limit: number) =>
  useQuery({
    queryKey: ['people', computed(() => toValue(text)), limit],
    queryFn: () =>
      told(api.GET('/api/v1/directory/search', { params: { query: { q: toValue(text), limit } } })),
    enabled: computed(() => toValue(text) !== ''),
  })
