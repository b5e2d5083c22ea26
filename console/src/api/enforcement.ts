import { useQuery } from '@tanstack/vue-query'
import { computed, toValue, type MaybeRefOrGetter } from 'vue'

import { changing, match } from './changing'
import { api, told, type CoverageRow, type GroupLayers, type Settings } from './client'
import { crud, listKey } from './crud'

type LayersBody = Omit<GroupLayers, 'version'>
type CoverageBody = Omit<CoverageRow, 'shipped' | 'version'>
const useChange = changing(['revision'])
const modes = crud<GroupLayers, LayersBody>('layer_modes', 'group')

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

/** What groups say about layers, strongest group first. */
export const useLayerModes = () => modes.useAll()
export const usePutLayerModes = modes.usePut
export const useRemoveLayerModes = modes.useRemove

/** The coverage table. */
export function useCoverage() {
  return useQuery({ queryKey: listKey('coverage'), queryFn: () => told(api.GET('/api/v1/coverage')) })
}

/** Put a row into the coverage table. */
export const usePutCoverage = () =>
  useChange(({ row, version }: { row: CoverageBody; version?: number | null }, query) =>
    told(api.PUT('/api/v1/coverage', { params: { query }, body: row, headers: match(version) })),
  )

/** Put a row back as shipped. */
export const useResetCoverage = () =>
  useChange((row: CoverageRow, query) =>
    told(
      api.DELETE('/api/v1/coverage/{key}', {
        params: { path: { key: `${row.control}/${row.browser}/${row.platform}` }, query },
        headers: match(row.version),
      }),
    ),
  )
