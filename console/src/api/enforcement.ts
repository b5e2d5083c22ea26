import { useQuery } from '@tanstack/vue-query'
import { computed, toValue, type MaybeRefOrGetter } from 'vue'

import { changing, match } from './changing'
import { api, told, type CoverageRow, type GroupLayers, type Settings } from './client'

const useChange = changing([
  'settings',
  'capacity',
  'category-index',
  'layer-modes',
  'coverage',
  'readiness',
  'revisions',
  'rollout',
])

/** How many machines really enforce each layer, and what keeps the others from it. */
export function useReadiness(scope: MaybeRefOrGetter<{ unit?: string; group?: string }>) {
  return useQuery({
    queryKey: ['readiness', computed(() => toValue(scope))],
    queryFn: () => told(api.GET('/api/v1/readiness', { params: { query: toValue(scope) } })),
  })
}

/** How each unit right below another one stands. */
export function useUnitReadiness(below: MaybeRefOrGetter<string | undefined>) {
  return useQuery({
    queryKey: ['readiness', 'units', computed(() => toValue(below))],
    queryFn: () => told(api.GET('/api/v1/readiness/units', { params: { query: { below: toValue(below) } } })),
  })
}

/** The estate's settings. */
export function useSettings() {
  return useQuery({ queryKey: ['settings'], queryFn: () => told(api.GET('/api/v1/settings')) })
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

/** What groups say about layers, strongest group first. */
export function useLayerModes() {
  return useQuery({ queryKey: ['layer-modes'], queryFn: () => told(api.GET('/api/v1/layer-modes')) })
}

/** Say what layers should do on a group's devices; without a version for a group that said nothing. */
export const usePutLayerModes = () =>
  useChange(({ version, ...body }: Omit<GroupLayers, 'version'> & { version?: number }, query) =>
    told(
      api.PUT('/api/v1/layer-modes/{group}', {
        params: { path: { group: body.group }, query },
        body,
        headers: version === undefined ? {} : match(version),
      }),
    ),
  )

/** Leave a group's layers to weaker groups and the estate again. */
export const useRemoveLayerModes = () =>
  useChange(({ group, version }: { group: string; version: number }, query) =>
    told(
      api.DELETE('/api/v1/layer-modes/{group}', {
        params: { path: { group }, query },
        headers: match(version),
      }),
    ),
  )

/** The coverage table. */
export function useCoverage() {
  return useQuery({ queryKey: ['coverage'], queryFn: () => told(api.GET('/api/v1/coverage')) })
}

/** Put a row into the coverage table. */
export const usePutCoverage = () =>
  useChange(
    ({ row, version }: { row: Omit<CoverageRow, 'shipped' | 'version'>; version?: number | null }, query) =>
      told(
        api.PUT('/api/v1/coverage', { params: { query }, body: row, headers: version ? match(version) : {} }),
      ),
  )

/** Put a row back as shipped. */
export const useResetCoverage = () =>
  useChange((row: CoverageRow, query) =>
    told(
      api.DELETE('/api/v1/coverage/{control}/{browser}/{platform}', {
        params: { path: { control: row.control, browser: row.browser, platform: row.platform }, query },
        headers: match(row.version!),
      }),
    ),
  )
