import { useQuery } from '@tanstack/vue-query'
import { computed, toValue, type MaybeRefOrGetter } from 'vue'

import { changing } from './changing'
import { api, told, type RulesetBody } from './client'
import type { components } from './schema'

type Schemas = components['schemas']
export type OverlapRow = Schemas['OverlapRow']
export type BoardCell = Schemas['BoardCell']
export type BoardRow = Schemas['BoardRow']
export type WorkItem = Schemas['WorkItem']
export type Severity = Schemas['Severity']

// --- the board and overlaps ---

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

// --- findings and the worklist ---

/** What is to be settled. */
export const useFindings = () =>
  useQuery({ queryKey: ['findings'], queryFn: () => told(api.GET('/api/v1/findings')) })

/** All machines that a finding is about. */
export const useFindingDevices = (id: MaybeRefOrGetter<string>, wanted: MaybeRefOrGetter<boolean>) =>
  useQuery({
    queryKey: ['findings', 'devices', computed(() => toValue(id))],
    queryFn: () =>
      told(
        api.GET('/api/v1/findings/{id}/devices', {
          params: { path: { id: toValue(id) }, query: { limit: 1000 } },
        }),
      ),
    enabled: computed(() => toValue(wanted)),
  })

/** What needs a decision, most urgent first. */
export const useWorklist = () =>
  useQuery({ queryKey: ['worklist'], queryFn: () => told(api.GET('/api/v1/worklist')) })

const useChange = changing(['revision'])

/** Make the change that settles a finding. */
export const useTakeRemedy = () =>
  useChange(({ finding, remedy }: { finding: string; remedy: string }, query) =>
    told(
      api.POST('/api/v1/findings/{id}/remedy', {
        params: { path: { id: finding }, query },
        body: { remedy },
      }),
    ),
  )

/** Say why a finding may stay as it is, and until when. */
export const useAccept = () =>
  useChange(({ finding, reason, until }: { finding: string; reason: string; until: string }) =>
    told(
      api.PUT('/api/v1/findings/{id}/acceptance', {
        params: { path: { id: finding } },
        body: { reason, until },
      }),
    ),
  )

/** Take an acceptance back. */
export const useReopen = () =>
  useChange((finding: string) =>
    told(api.DELETE('/api/v1/findings/{id}/acceptance', { params: { path: { id: finding } } })),
  )

// --- while writing ---

type NewAssignment = Schemas['NewAssignment']

/** What should be known of a ruleset or an assignment that is being written. */
export function useWarnings(
  written: MaybeRefOrGetter<{ ruleset?: RulesetBody; assignment?: NewAssignment } | null>,
) {
  return useQuery({
    queryKey: ['warnings', computed(() => toValue(written))],
    queryFn: () => told(api.POST('/api/v1/warnings', { body: toValue(written)! })),
    enabled: computed(() => toValue(written) !== null),
    placeholderData: (before) => before,
    retry: false,
  })
}

// --- history ---

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
