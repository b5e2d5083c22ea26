import { keepPreviousData, useMutation, useQuery, useQueryClient } from '@tanstack/vue-query'
import { computed, toValue, type MaybeRefOrGetter } from 'vue'

import { changing } from './changing'
import { api, told } from './client'
import { crud, listKey } from './crud'
import { usePages } from './paging'
import { readAgain } from './queries'
import type { components, paths } from './schema'

type Schemas = components['schemas']
export type Lookup = Schemas['HostLookup']
export type Feed = Schemas['FeedSummary']
export type FeedBody = Schemas['Feed']
export type Generation = Schemas['Generation']
export type Comparison = Schemas['FeedComparison']
export type Correction = Schemas['CorrectionSummary']
export type CorrectionBody = Schemas['Correction']
export type FoundIndicator = Schemas['FoundIndicator']
export type ImportReport = Schemas['ImportReport']
export type RulesEdit = Schemas['RulesEdit']
export type IndicatorFilters = NonNullable<paths['/api/v1/indicators']['get']['parameters']['query']>
export type FileFormat = 'csv' | 'stix'

// --- look-up ---

/** All that is known of a host or URL; nothing is asked while there is none. */
export const useLookup = (asked: MaybeRefOrGetter<string>) =>
  useQuery({
    queryKey: ['lookup', computed(() => toValue(asked))],
    queryFn: () => told(api.GET('/api/v1/categories/lookup', { params: { query: { url: toValue(asked) } } })),
    enabled: computed(() => toValue(asked) !== ''),
    retry: false,
  })

// --- feeds ---

const useContentChange = changing(['revision'])
const feeds = crud<Feed, FeedBody>('feeds')

/** All feeds; while one is being read they are looked at again and again. */
export const useFeeds = () =>
  feeds.useAll({ refetchInterval: (found) => (found?.some(({ progress }) => progress) ? 700 : 30_000) })
export const useCreateFeed = feeds.useCreate
export const usePutFeed = feeds.usePut
export const useRemoveFeed = feeds.useRemove

/** What can be done with what a feed brings. */
export type Deed = 'poll' | 'take' | 'drop' | 'back' | 'resume'
const deeds = {
  poll: (path: { key: string }) => told(api.POST('/api/v1/feeds/{key}/poll', { params: { path } })),
  take: (path: { key: string }) => told(api.POST('/api/v1/feeds/{key}/take', { params: { path } })),
  drop: (path: { key: string }) => told(api.POST('/api/v1/feeds/{key}/drop', { params: { path } })),
  back: (path: { key: string }) => told(api.POST('/api/v1/feeds/{key}/back', { params: { path } })),
  resume: (path: { key: string }) => told(api.POST('/api/v1/feeds/{key}/resume', { params: { path } })),
}
function useFeedDeed<Variables>(act: (variables: Variables) => Promise<unknown>) {
  const queries = useQueryClient()
  return useMutation({
    mutationFn: act,
    onSuccess: () => readAgain(queries, ['feed']),
  })
}

export const useDeed = () =>
  useFeedDeed(({ feed, deed }: { feed: string; deed: Deed }) => deeds[deed]({ key: feed }))

/** Send a file as a feed's new generation. */
export const useSendFile = () =>
  useFeedDeed(({ feed, file, review }: { feed: string; file: File; review: boolean }) =>
    told(
      api.POST('/api/v1/feeds/{key}/import', {
        params: { path: { key: feed }, query: { name: file.name, review } },
        body: file as unknown as string,
        bodySerializer: () => file,
        headers: { 'Content-Type': 'application/octet-stream' },
      }),
    ),
  )

/** Give what a feed is fetched with. */
export const useSetCredential = () =>
  useFeedDeed(({ feed, body }: { feed: string; body: Schemas['FeedCredential'] }) =>
    told(api.PUT('/api/v1/feeds/{key}/credential', { params: { path: { key: feed } }, body })),
  )

export const useGenerations = (feed: MaybeRefOrGetter<string>) =>
  useQuery({
    queryKey: ['generations', computed(() => toValue(feed))],
    queryFn: () =>
      told(api.GET('/api/v1/feeds/{key}/generations', { params: { path: { key: toValue(feed) } } })),
  })

/** What a generation changes; asked for when one is chosen. */
export const useComparison = (feed: MaybeRefOrGetter<string>, number: MaybeRefOrGetter<number | null>) =>
  useQuery({
    queryKey: ['comparison', computed(() => toValue(feed)), computed(() => toValue(number))],
    queryFn: () =>
      told(
        api.GET('/api/v1/feeds/{key}/generations/{number}/comparison', {
          params: { path: { key: toValue(feed), number: toValue(number)! } },
        }),
      ),
    enabled: computed(() => toValue(number) !== null),
    retry: false,
    staleTime: 60_000,
  })

/** What came with a feed, or with files for a ruleset, and could not be expressed. */
export const useAside = (feed: MaybeRefOrGetter<string>, enabled: MaybeRefOrGetter<boolean>) =>
  useQuery({
    queryKey: ['aside', computed(() => toValue(feed))],
    queryFn: () => told(api.GET('/api/v1/feeds/{key}/aside', { params: { path: { key: toValue(feed) } } })),
    enabled,
  })

export const useCategoryIndex = () =>
  useQuery({ queryKey: ['category-index'], queryFn: () => told(api.GET('/api/v1/category-index')) })

// --- corrections ---

export const useCorrections = (q: MaybeRefOrGetter<string>) =>
  usePages([...listKey('corrections'), computed(() => toValue(q))], (cursor) =>
    told(
      api.GET('/api/v1/corrections', {
        params: { query: { q: toValue(q) || undefined, cursor, limit: 100 } },
      }),
    ),
  )

const corrections = crud<Correction, CorrectionBody>('corrections', 'host')
export const usePutCorrection = corrections.usePut
export const useRemoveCorrection = corrections.useRemove

// --- indicators ---

/** Rules of one ruleset, or of all rulesets of indicators, searched by the service. */
export const useIndicators = (filters: MaybeRefOrGetter<IndicatorFilters>) =>
  usePages(['indicators', computed(() => toValue(filters))], (cursor) =>
    told(api.GET('/api/v1/indicators', { params: { query: { ...toValue(filters), cursor } } })),
  )

/** Put some rules in and take some out, of however many. */
export const useEditRules = () =>
  useContentChange(({ ruleset, body }: { ruleset: string; body: RulesEdit }, query) =>
    told(api.POST('/api/v1/rulesets/{key}/rules', { params: { path: { key: ruleset }, query }, body })),
  )

export interface FileOfRules {
  ruleset: string
  file: File
  format: FileFormat
  replace: boolean
  action?: 'allow' | 'warn' | 'block' | 'log'
}
const sent = ({ file }: FileOfRules) => ({
  body: file as unknown as string,
  bodySerializer: () => file,
  headers: { 'Content-Type': 'application/octet-stream' },
})

/** What putting a file of rules in would come to. */
export const useWeighRules = () =>
  useMutation({
    mutationFn: (rules: FileOfRules) =>
      told(
        api.POST('/api/v1/rulesets/{key}/import/check', {
          params: {
            path: { key: rules.ruleset },
            query: { format: rules.format, replace: rules.replace, action: rules.action },
          },
          ...sent(rules),
        }),
      ),
  })

export const useImportRules = () =>
  useContentChange((rules: FileOfRules, query) =>
    told(
      api.POST('/api/v1/rulesets/{key}/import', {
        params: {
          path: { key: rules.ruleset },
          query: { ...query, format: rules.format, replace: rules.replace, action: rules.action },
        },
        ...sent(rules),
      }),
    ),
  )

export const useCapacity = () =>
  useQuery({ queryKey: ['capacity'], queryFn: () => told(api.GET('/api/v1/indicators/capacity')) })

/** What can go without any verdict becoming another one. */
export const useCleanable = (enabled: MaybeRefOrGetter<boolean>) =>
  useQuery({
    queryKey: ['clean-up'],
    queryFn: () => told(api.GET('/api/v1/indicators/clean-up')),
    enabled,
    placeholderData: keepPreviousData,
  })
export type CleanUpReason = 'ended' | 'duplicate' | 'overshadowed'
export const useCleanUp = () =>
  useContentChange(({ because }: { because: CleanUpReason[] }, query) =>
    told(api.POST('/api/v1/indicators/clean-up', { params: { query: { ...query, because } } })),
  )
