import { useQuery } from '@tanstack/vue-query'
import { computed, type MaybeRefOrGetter, toValue } from 'vue'

import { changing } from '@/api/changing'
import { api, type Schemas, told } from '@/api/client'
import { usePages } from '@/api/paging'

export type Observation = Schemas['Observation']
export type EvidenceSummary = Schemas['EvidenceSummary']

/** What machines saw of a probe in an observed run. */
export const useSeen = (run: MaybeRefOrGetter<number>, set: string, number: number) =>
  usePages(['runs', computed(() => toValue(run)), 'seen', set, number], (cursor) =>
    told(
      api.GET('/api/v1/runs/{id}/observations', {
        params: { path: { id: toValue(run) }, query: { set, number, cursor, limit: 30 } },
      }),
    ),
  )

/** What a machine saw last of each probe that it really tried. */
export const useSeenBy = (device: MaybeRefOrGetter<string>) =>
  useQuery({
    queryKey: ['runs', 'seen-by', computed(() => toValue(device))],
    queryFn: () =>
      told(
        api.GET('/api/v1/devices/{device}/observations', { params: { path: { device: toValue(device) } } }),
      ),
  })

/** What the probes of a set came to on the machines that have really tried them, by number. */
export function useObservedProbes(set: MaybeRefOrGetter<string | undefined>) {
  const { data } = useQuery({
    queryKey: ['runs', 'observed', computed(() => toValue(set))],
    queryFn: () =>
      told(api.GET('/api/v1/probe-sets/{key}/observed', { params: { path: { key: toValue(set) ?? '' } } })),
    enabled: computed(() => toValue(set) !== undefined),
  })
  return computed(() => new Map((data.value ?? []).map((one) => [one.number, one])))
}

/** The evidence that is kept, the newest first. */
export const useEvidence = () =>
  usePages(['runs', 'evidence'], (cursor) =>
    told(api.GET('/api/v1/evidence', { params: { query: { cursor, limit: 50 } } })),
  )

/** How many machines have really tried some probe, and the first of those that have not. */
export const useNeverObserved = () =>
  useQuery({
    queryKey: ['runs', 'never-observed'],
    queryFn: () => told(api.GET('/api/v1/evidence/never-observed', { params: { query: { limit: 60 } } })),
  })

/** Sign a run as evidence. */
export const useMakeEvidence = () =>
  changing(['run'])((run: number) =>
    told(api.POST('/api/v1/runs/{id}/evidence', { params: { path: { id: run } } })),
  )

/** Where evidence is read, and where its signed file is. */
export const evidencePage = (id: number) => `/api/v1/evidence/${id}/page`
export const evidenceFile = (id: number) => `/api/v1/evidence/${id}/file`
