import { useQuery } from '@tanstack/vue-query'
import { computed, type MaybeRefOrGetter, toValue } from 'vue'

import { changing } from '@/api/changing'
import { api, told, type Schemas } from '@/api/client'

export type Severity = Schemas['Severity']

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
