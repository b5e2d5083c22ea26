import { shallowRef } from 'vue'

import type { Asking } from '@/api/changing'
import type { Preview } from '@/api/client'

/** A change that somebody is about to make: what it would do is shown before it is put in force. */
export interface PlannedChange {
  /** What is to be saved, as in “ruleset quiet-link”. */
  title: string
  /** Asks the service what the change would do, and what becomes of the probes that it carries. */
  load: (prove: string[]) => Promise<Preview>
  /** Makes the change, in force or as a draft. */
  commit: (how: { asDraft: boolean; asking: Omit<Asking, 'preview'> }) => Promise<void>
  /** Whether it can be kept as a draft. */
  mayBeDraft: boolean
}

/** A change that was made just now. */
export interface MadeChange {
  revision: number
  /** How many machines get another bundle by it. */
  machines: number
}

/** The newest one, told for a while. */
export const made = shallowRef<MadeChange>()

/** The one planned that is being looked at; the dialog in the application's frame shows it. */
export const planned = shallowRef<PlannedChange>()
