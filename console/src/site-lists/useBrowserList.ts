import { useQuery } from '@tanstack/vue-query'
import { computed, type MaybeRefOrGetter, toValue } from 'vue'

import { api, told } from '@/api/client'
import type { paths } from '@/api/schema'

/** Whose site list: of a device, or of a machine in a group alone. */
export type Whose = { device: string } | { group: string }
export type ListQuery = NonNullable<paths['/api/v1/devices/{device}/site-list']['get']['parameters']['query']>

/** The site list as a browser is handed it. */
export function useBrowserList(whose: MaybeRefOrGetter<Whose>, query: MaybeRefOrGetter<ListQuery>) {
  return useQuery({
    queryKey: ['site-list', computed(() => toValue(whose)), computed(() => toValue(query))],
    queryFn: () => {
      const path = toValue(whose)
      const asked = toValue(query)
      return 'device' in path
        ? told(api.GET('/api/v1/devices/{device}/site-list', { params: { path, query: asked } }))
        : told(api.GET('/api/v1/groups/{group}/site-list', { params: { path, query: asked } }))
    },
  })
}

/** Where the very file is. */
export function fileOf(whose: Whose, query: ListQuery): string {
  const place =
    'device' in whose
      ? `devices/${encodeURIComponent(whose.device)}`
      : `groups/${encodeURIComponent(whose.group)}`
  const asked = Object.entries(query).filter((one): one is [string, string] => Boolean(one[1]))
  return `/api/v1/${place}/site-list/file?${new URLSearchParams(asked)}`
}
