import { useQuery } from '@tanstack/vue-query'
import { computed, type MaybeRefOrGetter, toValue } from 'vue'

import { changing } from '@/api/changing'
import { api, told, type Schemas } from '@/api/client'
import { usePages } from '@/api/paging'
import type { paths } from '@/api/schema'

export type Severity = Schemas['Severity']

export type FindingFilters = NonNullable<paths['/api/v1/findings']['get']['parameters']['query']>

/** What is to be settled, a page at a time; and the counts of all of it. */
export function useFindings(filters: MaybeRefOrGetter<FindingFilters>) {
  const query = usePages(['findings', computed(() => toValue(filters))], (cursor) =>
    told(api.GET('/api/v1/findings', { params: { query: { ...toValue(filters), cursor } } })),
  )
  return { ...query, counts: computed(() => query.data.value?.pages[0]) }
}

/** How much is to be settled. */
export const useFindingCounts = () =>
  useQuery({
    queryKey: ['findings', 'counts'],
    queryFn: () => told(api.GET('/api/v1/findings', { params: { query: { limit: 1 } } })),
  })

/** One finding. */
export const useFinding = (id: MaybeRefOrGetter<string>) =>
  useQuery({
    queryKey: ['findings', 'one', computed(() => toValue(id))],
    queryFn: () => told(api.GET('/api/v1/findings/{id}', { params: { path: { id: toValue(id) } } })),
    enabled: computed(() => Boolean(toValue(id))),
    retry: false,
  })

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
