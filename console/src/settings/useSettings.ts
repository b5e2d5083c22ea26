import { useQuery } from '@tanstack/vue-query'

import { changing, match } from '@/api/changing'
import { api, type Settings, told } from '@/api/client'
import { listKey } from '@/api/crud'

const useChange = changing(['revision'])

/** The estate's settings. */
export function useSettings() {
  return useQuery({ queryKey: listKey('settings'), queryFn: () => told(api.GET('/api/v1/settings')) })
}

/** The settings without what the service adds to them. */
export function settingsBody(settings: Settings): Omit<Settings, 'version'> {
  const body: Partial<Settings> = { ...settings }
  delete body.version
  return body as Omit<Settings, 'version'>
}

/** Change the estate's settings as they were seen. */
export const usePutSettings = () =>
  useChange(({ body, version }: { body: Omit<Settings, 'version'>; version: number }, query) =>
    told(api.PUT('/api/v1/settings', { params: { query }, body, headers: match(version) })),
  )
