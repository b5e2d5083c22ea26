import { useMutation, useQuery } from '@tanstack/vue-query'
import { computed, type MaybeRefOrGetter, toValue } from 'vue'

import { api, type Schemas, told } from '@/api/client'

export type Errand = Schemas['Errand']
export const isOpen = (errand?: Errand) => errand?.state === 'waiting' || errand?.state === 'taken'

/** Have a machine open a page now. */
export const useAskErrand = () =>
  useMutation({
    mutationFn: ({ device, body }: { device: string; body: Schemas['NewErrand'] }) =>
      told(api.POST('/api/v1/devices/{device}/errands', { params: { path: { device } }, body })),
  })

/** An errand as far as it is; followed until it is answered. */
export function useErrand(id: MaybeRefOrGetter<string | undefined>) {
  return useQuery({
    queryKey: ['errands', computed(() => toValue(id))],
    queryFn: () => told(api.GET('/api/v1/errands/{errand}', { params: { path: { errand: toValue(id)! } } })),
    enabled: computed(() => toValue(id) !== undefined),
    refetchInterval: (query) => (isOpen(query.state.data) ? 5_000 : false),
  })
}
