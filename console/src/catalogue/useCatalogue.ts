import { useInfiniteQuery, useQuery } from '@tanstack/vue-query'
import { computed, type MaybeRefOrGetter, toValue } from 'vue'

import { changing, match } from '@/api/changing'
import { api, type Schemas, told } from '@/api/client'
import type { paths } from '@/api/schema'

export type CatalogueEntry = Schemas['CatalogueEntry']
export type Correction = Schemas['ApplicationCorrectionSummary']
export type CatalogueFilters = NonNullable<paths['/api/v1/applications']['get']['parameters']['query']>

/** The programs of the fleet, those on most machines first, page by page. */
export function useCatalogue(filters: MaybeRefOrGetter<CatalogueFilters>) {
  const query = useInfiniteQuery({
    queryKey: ['applications', computed(() => toValue(filters))],
    queryFn: ({ pageParam }) =>
      told(
        api.GET('/api/v1/applications', {
          params: { query: { ...toValue(filters), cursor: pageParam || undefined } },
        }),
      ),
    initialPageParam: '',
    getNextPageParam: (last) => last.next,
    placeholderData: (before) => before,
  })
  const items = computed(() => query.data.value?.pages.flatMap((page) => page.items) ?? [])
  const total = computed(() => query.data.value?.pages[0]?.total ?? 0)
  return { ...query, items, total }
}

/** What the programs of the fleet are for. */
export const usePurposes = () =>
  useQuery({
    queryKey: ['applications', 'purposes'],
    queryFn: () => told(api.GET('/api/v1/application-categories')),
  })

/** One program with its versions. */
export const useProgram = (id: MaybeRefOrGetter<number | undefined>) =>
  useQuery({
    queryKey: ['applications', 'one', computed(() => toValue(id))],
    queryFn: () =>
      told(
        api.GET('/api/v1/applications/{application}', { params: { path: { application: toValue(id)! } } }),
      ),
    enabled: computed(() => toValue(id) !== undefined),
  })

/** The first machines that have a program. */
export const useMachinesWith = (id: MaybeRefOrGetter<number | undefined>) =>
  useQuery({
    queryKey: ['applications', 'devices', computed(() => toValue(id))],
    queryFn: () =>
      told(
        api.GET('/api/v1/applications/{application}/devices', {
          params: { path: { application: toValue(id)! }, query: { limit: 24 } },
        }),
      ),
    enabled: computed(() => toValue(id) !== undefined),
  })

const useChange = changing(['revision'])

/** Say what a product is for, in place of what machines tell. */
export const useCorrect = () =>
  useChange(({ body, version }: { body: Schemas['ApplicationCorrection']; version?: number | null }, query) =>
    told(api.PUT('/api/v1/application-corrections', { params: { query }, body, headers: match(version) })),
  )

/** Let what machines tell of a product count again. */
export const useTakeBack = () =>
  useChange(({ product, version }: Correction, query) =>
    told(
      api.DELETE('/api/v1/application-corrections/{product}', {
        params: { path: { product }, query },
        headers: match(version),
      }),
    ),
  )
