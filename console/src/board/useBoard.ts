import { useQuery } from '@tanstack/vue-query'
import { computed, type MaybeRefOrGetter, toValue } from 'vue'

import { api, told, type Schemas } from '@/api/client'

export type OverlapRow = Schemas['OverlapRow']
export type BoardCell = Schemas['BoardCell']
export type BoardRow = Schemas['BoardRow']

/** All that is assigned, seen at once. */
export const useBoard = () => useQuery({ queryKey: ['board'], queryFn: () => told(api.GET('/api/v1/board')) })

export interface OverlapAsked {
  group?: string[]
  device?: string
  visit?: string
  program?: string
}

/** What groups, or one machine's groups, each contribute, and what wins. */
export function useOverlap(asked: MaybeRefOrGetter<OverlapAsked>) {
  return useQuery({
    queryKey: ['overlap', computed(() => toValue(asked))],
    queryFn: () => told(api.GET('/api/v1/overlaps', { params: { query: toValue(asked) } })),
    enabled: computed(() => Boolean(toValue(asked).group?.length || toValue(asked).device)),
    placeholderData: (before) => before,
    retry: false,
  })
}

/** How many machines every two groups share. */
export const useGroupOverlaps = () =>
  useQuery({ queryKey: ['overlap', 'groups'], queryFn: () => told(api.GET('/api/v1/group-overlaps')) })
