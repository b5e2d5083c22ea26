import { changing } from '@/api/changing'
import { api, told } from '@/api/client'

const useChange = changing(['device'])

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
