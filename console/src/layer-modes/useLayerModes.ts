import type { GroupLayers } from '@/api/client'
import { crud } from '@/api/crud'

type LayersBody = Omit<GroupLayers, 'version'>

const modes = crud<GroupLayers, LayersBody>('layer_modes', 'group')

/** What groups say about layers, strongest group first. */
export const useLayerModes = () => modes.useAll()

export const usePutLayerModes = modes.usePut
export const useRemoveLayerModes = modes.useRemove
