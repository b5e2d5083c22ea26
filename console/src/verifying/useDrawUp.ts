import { useMutation } from '@tanstack/vue-query'
import { computed } from 'vue'

import { api, type Schemas, told } from '@/api/client'
import { crud } from '@/api/crud'

export type DrawnFrom = Schemas['DrawnFrom']
export type ProbeSet = Schemas['ProbeSet']

/** A probe set drawn up from something; nothing is kept. */
export const useDrawUp = () =>
  useMutation({ mutationFn: (body: DrawnFrom) => told(api.POST('/api/v1/probe-sets/draw-up', { body })) })

/** A probe set as it is kept; it always has a name to be shown by. */
export type SavedProbeSet = Schemas['ProbeSetState'] & { name: string }

/** The calls of probe sets. */
export const probeSets = crud<Schemas['ProbeSetState'], ProbeSet>('probe_sets')

/** All probe sets. */
export function useProbeSets() {
  const { data, ...rest } = probeSets.useAll()
  return {
    ...rest,
    data: computed(() => data.value?.map((one): SavedProbeSet => ({ ...one, name: one.name ?? one.key }))),
  }
}
