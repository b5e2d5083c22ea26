import { useMutation } from '@tanstack/vue-query'

import { api, type Schemas, told } from '@/api/client'
import { crud } from '@/api/crud'

export type DrawnFrom = Schemas['DrawnFrom']
export type ProbeSet = Schemas['ProbeSet']

/** A probe set drawn up from something; nothing is kept. */
export const useDrawUp = () =>
  useMutation({ mutationFn: (body: DrawnFrom) => told(api.POST('/api/v1/probe-sets/draw-up', { body })) })

/** The calls of probe sets. */
export const probeSets = crud<Schemas['ProbeSetState'], ProbeSet>('probe_sets')
