import { useQuery } from '@tanstack/vue-query'
import { computed, type MaybeRefOrGetter, toValue } from 'vue'

import { changing } from '@/api/changing'
import { api, type Schemas, told } from '@/api/client'
import { usePages } from '@/api/paging'

export type Push = Schemas['Push']
export type NewPush = Partial<Schemas['NewPush']>
export type Receipt = Schemas['Receipt']

const useChange = changing(['push'])

/** The last pushes, the newest first. */
export const usePushes = () =>
  useQuery({ queryKey: ['pushes'], queryFn: () => told(api.GET('/api/v1/pushes')) })

/** One push, as far as machines are with it. */
export const usePush = (push: MaybeRefOrGetter<string>) =>
  useQuery({
    queryKey: ['pushes', computed(() => toValue(push))],
    queryFn: () => told(api.GET('/api/v1/pushes/{push}', { params: { path: { push: toValue(push) } } })),
  })

/** How far each machine is with a push, or those in one state. */
export const useReceipts = (
  push: MaybeRefOrGetter<string>,
  state: MaybeRefOrGetter<Receipt['state'] | undefined>,
) =>
  usePages(['pushes', computed(() => toValue(push)), 'receipts', computed(() => toValue(state))], (cursor) =>
    told(
      api.GET('/api/v1/pushes/{push}/receipts', {
        params: { path: { push: toValue(push) }, query: { state: toValue(state), cursor, limit: 50 } },
      }),
    ),
  )

/** Tell machines to ask now for what is new. */
export const useCreatePush = () =>
  useChange((body: NewPush) =>
    told(api.POST('/api/v1/pushes', { body: { devices: [], waiting: false, ...body } })),
  )
