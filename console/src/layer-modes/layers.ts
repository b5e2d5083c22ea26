import type { LayerName } from '@/api/client'

/** The layers in their order, and how each is called. */
export const LAYERS: { key: LayerName; name: string }[] = [
  { key: 'filter', name: 'Filter' },
  { key: 'browser', name: 'Browser layer' },
  { key: 'startup', name: 'Startup layer' },
]
