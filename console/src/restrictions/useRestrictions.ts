import { useQuery } from '@tanstack/vue-query'
import { computed, type MaybeRefOrGetter, toValue } from 'vue'

import { changing } from '@/api/changing'
import { api, type Schemas, told } from '@/api/client'

export type NewRestriction = Schemas['NewRestriction']
export type RestrictionInForce = Schemas['RestrictionInForce']
export type RestrictionDone = Schemas['RestrictionDone']

const useChange = changing(['revision', 'push'])

/** What is restricted now, everywhere or on a machine, and what can be put on again. */
export const useRestrictions = (device?: MaybeRefOrGetter<string | undefined>) =>
  useQuery({
    queryKey: ['restrictions', computed(() => toValue(device))],
    queryFn: () => told(api.GET('/api/v1/restrictions', { params: { query: { device: toValue(device) } } })),
    // one that ends goes by itself
    refetchInterval: 30_000,
  })

/** Put one on; the machines are told at once. */
export const usePutOn = () =>
  useChange(
    ({ body, reason }: { body: NewRestriction; reason?: string }) =>
      told(
        api.POST('/api/v1/restrictions', { params: { query: { reason } }, body }),
      ) as Promise<RestrictionDone>,
  )

/** Lift one, from what it was put on together; the machines are told at once. */
export const useLift = () =>
  useChange(
    ({ key, on }: { key: string; on: readonly string[] }) =>
      told(
        api.DELETE('/api/v1/restrictions/{restriction}', {
          params: { path: { restriction: key }, query: { on: [...on] } },
        }),
      ) as Promise<RestrictionDone>,
  )
