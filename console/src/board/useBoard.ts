import { useInfiniteQuery, useQuery } from '@tanstack/vue-query'
import { computed, type MaybeRefOrGetter, toValue } from 'vue'

import { api, type Board, told, type Schemas } from '@/api/client'

export type OverlapRow = Schemas['OverlapRow']
export type BoardCell = Schemas['BoardCell']
export type BoardRow = Schemas['BoardRow']

/** What is assigned, seen at once: rows come a page at a time, the strongest first. */
export function useBoard() {
  const query = useInfiniteQuery({
    queryKey: ['board'],
    queryFn: ({ pageParam }) =>
      told(api.GET('/api/v1/board', { params: { query: { cursor: pageParam ?? undefined } } })),
    initialPageParam: null as string | null,
    getNextPageParam: (page) => page.next,
  })
  const data = computed<Board | undefined>(() => {
    const pages = query.data.value?.pages
    if (!pages?.length) return undefined
    return {
      ...pages[0],
      rows: pages.flatMap((page) => page.rows),
      cells: pages.flatMap((page) => page.cells),
    }
  })
  return { ...query, data }
}

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
