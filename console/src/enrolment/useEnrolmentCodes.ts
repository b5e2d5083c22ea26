import { useQuery } from '@tanstack/vue-query'

import { changing } from '@/api/changing'
import { api, type Invitation, told } from '@/api/client'

const useChange = changing(['device'])

/** The newest enrolment codes, without the codes themselves. */
export function useEnrolmentCodes() {
  return useQuery({
    queryKey: ['enrolment-codes'],
    queryFn: async () => (await told(api.GET('/api/v1/enrolment-codes'))).items,
  })
}

/** Make an enrolment code; it is told this once. */
export const useMakeCode = () =>
  useChange((body: { name: string | null; uses: number; hours: number; labels: Record<string, string> }) =>
    told(api.POST('/api/v1/enrolment-codes', { body })),
  )

/** Take an enrolment code back. */
export const useRevokeCode = () =>
  useChange((id: string) => told(api.DELETE('/api/v1/enrolment-codes/{id}', { params: { path: { id } } })))

/** Invite or record machines from a list as CSV; all of them or none. */
export const useInviteList = () =>
  useChange(async ({ list, codes }: { list: string; codes: boolean }): Promise<Invitation[]> => {
    const answer = api.POST('/api/v1/invitations/csv', {
      params: { query: { codes } },
      body: list,
      bodySerializer: (body: string) => body,
      headers: { 'Content-Type': 'text/csv; charset=utf-8' },
    })
    return (await told(answer)).invitations
  })
