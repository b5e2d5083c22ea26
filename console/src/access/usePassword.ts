import { useMutation, useQueryClient } from '@tanstack/vue-query'

import { api, type Schemas, told } from '@/api/client'

/** Change one's own password; other sessions end. */
export function useChangePassword() {
  const queries = useQueryClient()
  return useMutation({
    mutationFn: (body: Schemas['NewPassword']) => told(api.PUT('/api/v1/password', { body })),
    onSuccess: () => queries.invalidateQueries({ queryKey: ['session'] }),
  })
}
