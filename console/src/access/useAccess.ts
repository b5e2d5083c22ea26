import { useQuery } from '@tanstack/vue-query'
import { computed, type MaybeRefOrGetter, toValue } from 'vue'

import { changing } from '@/api/changing'
import { api, type Schemas, told } from '@/api/client'

export type Token = Schemas['Token']
export type SessionState = Schemas['SessionState']
export type NewToken = Schemas['NewToken']

const useChange = changing(['access'])

/** Your own API tokens, or everybody's. */
export const useTokens = (everybody: MaybeRefOrGetter<boolean>) =>
  useQuery({
    queryKey: ['access', 'tokens', computed(() => toValue(everybody))],
    queryFn: () => told(api.GET('/api/v1/tokens', { params: { query: { everybody: toValue(everybody) } } })),
  })

/** Your own browser sessions, or everybody's. */
export const useSessions = (everybody: MaybeRefOrGetter<boolean>) =>
  useQuery({
    queryKey: ['access', 'sessions', computed(() => toValue(everybody))],
    queryFn: () =>
      told(api.GET('/api/v1/sessions', { params: { query: { everybody: toValue(everybody) } } })),
  })

/** Make a token; its secret is told this once. */
export const useMakeToken = () => useChange((body: NewToken) => told(api.POST('/api/v1/tokens', { body })))

/** End a token with those that it made. */
export const useEndToken = () =>
  useChange((id: string) => told(api.DELETE('/api/v1/tokens/{id}', { params: { path: { id } } })))

/** End a session. */
export const useEndSession = () =>
  useChange((id: string) => told(api.DELETE('/api/v1/sessions/{id}', { params: { path: { id } } })))
