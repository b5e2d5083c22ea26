import { useQuery } from '@tanstack/vue-query'

import { api, told } from '@/api/client'

/** How many devices are in each roll-out state. */
export function useRollout() {
  return useQuery({ queryKey: ['rollout'], queryFn: () => told(api.GET('/api/v1/rollout')) })
}
