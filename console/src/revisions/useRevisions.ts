import { useQuery } from '@tanstack/vue-query'
import { computed, type MaybeRefOrGetter, toValue } from 'vue'

import { changing } from '@/api/changing'
import { api, told, type Schemas } from '@/api/client'

const useChange = changing(['revision'])

export interface RevisionsAsked {
  by?: string
  noun?: Schemas['Change']['noun']
  key?: string
  q?: string
  limit?: number
}

/** Revisions, newest first. */
export const useRevisions = (asked: MaybeRefOrGetter<RevisionsAsked>) =>
  useQuery({
    queryKey: ['revisions', computed(() => toValue(asked))],
    queryFn: () => told(api.GET('/api/v1/revisions', { params: { query: toValue(asked) } })),
    placeholderData: (before) => before,
  })

/** One revision, in words and as differences. */
export const useRevision = (number: MaybeRefOrGetter<number>) =>
  useQuery({
    queryKey: ['revisions', 'one', computed(() => toValue(number))],
    queryFn: () =>
      told(api.GET('/api/v1/revisions/{number}', { params: { path: { number: toValue(number) } } })),
    enabled: computed(() => toValue(number) > 0),
    staleTime: Infinity,
  })

/** What differs between two revisions. */
export const useComparison = (asked: MaybeRefOrGetter<{ from: number; to: number } | null>) =>
  useQuery({
    queryKey: ['revisions', 'compare', computed(() => toValue(asked))],
    queryFn: () => told(api.GET('/api/v1/revisions/compare', { params: { query: toValue(asked)! } })),
    enabled: computed(() => toValue(asked) !== null),
    retry: false,
  })

/** Make the estate what it was at a revision. */
export const useRestore = () =>
  useChange((number: number, query) =>
    told(api.POST('/api/v1/revisions/{number}/restore', { params: { path: { number }, query } })),
  )

/** Who last changed what governs a machine. */
export const useGoverning = (device: MaybeRefOrGetter<string>) =>
  useQuery({
    queryKey: ['revisions', 'governing', computed(() => toValue(device))],
    queryFn: () =>
      told(api.GET('/api/v1/devices/{device}/governing', { params: { path: { device: toValue(device) } } })),
  })
