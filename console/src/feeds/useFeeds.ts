import { useMutation, useQuery, useQueryClient } from '@tanstack/vue-query'
import { computed, type MaybeRefOrGetter, toValue } from 'vue'

import { api, told, type Schemas } from '@/api/client'
import { crud } from '@/api/crud'
import { readAgain } from '@/api/queries'

export type Feed = Schemas['FeedSummary']
export type FeedBody = Schemas['Feed']
export type Generation = Schemas['Generation']
export type Comparison = Schemas['FeedComparison']

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
