import { useMutation, useQuery, useQueryClient } from '@tanstack/vue-query'

import { api, type Schemas, setCsrfToken, told } from '@/api/client'

/** Whether there is no administrator yet. */
export const useSetupState = () =>
  useQuery({ queryKey: ['setup'], queryFn: () => told(api.GET('/api/v1/setup')), staleTime: Infinity })

/** Make the first administrator, with the code that the service printed; and sign in. */
export function useSetUp() {
  const queries = useQueryClient()
  return useMutation({
    mutationFn: (body: Schemas['Setup']) => told(api.POST('/api/v1/setup', { body })),
    onSuccess(session) {
      setCsrfToken(session.csrf_token)
      queries.setQueryData(['setup'], { needed: false })
      queries.setQueryData(['session'], session)
    },
  })
}
