import type { LayerName } from '../api/client'

/** The layers in their order, and how each is called. */
export const LAYERS: { key: LayerName; name: string; word: string }[] = [
  { key: 'filter', name: 'Filter', word: 'the filter' },
  { key: 'browser', name: 'Browser layer', word: 'the browser layer' },
  { key: 'startup', name: 'Startup layer', word: 'the startup layer' },
]

/** What a layer may be meant to do. */
export const MODES = ['enforcing', 'observing', 'off'] as const
