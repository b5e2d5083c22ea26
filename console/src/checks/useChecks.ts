import { useMutation } from '@tanstack/vue-query'

import { api, told } from '@/api/client'
import type { components } from '@/api/schema'

/** The verdict on a visit, or on a start. */
export function useCheck() {
  return useMutation({
    mutationFn: (body: components['schemas']['Attempt']) =>
      told(api.POST('/api/v1/check', { body, params: { query: { left_aside: true } } })),
  })
}
