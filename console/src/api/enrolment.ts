import { useQuery } from '@tanstack/vue-query'

import { changing } from './changing'
import { api, told, type Invitation } from './client'

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

/** Retire, revoke, recognise or keep apart. */
export const useDeed = () =>
  useChange(({ device, deed, reason }: { device: string; deed: Deed; reason?: string }) =>
    told(
      api.POST(`/api/v1/devices/{device}/${deed}` as '/api/v1/devices/{device}/retire', {
        params: { path: { device }, query: { reason } },
      }),
    ),
  )
export type Deed = 'retire' | 'revoke' | 'confirm-rejoin' | 'keep-apart'

/** Put labels on a device in place of those it has. */
export const useSetLabels = () =>
  useChange(
    ({ device, labels, version }: { device: string; labels: Record<string, string>; version: number }) =>
      told(
        api.PUT('/api/v1/devices/{device}/labels', {
          params: { path: { device } },
          body: { labels },
          headers: { 'If-Match': `"v${version}"` },
        }),
      ),
  )
