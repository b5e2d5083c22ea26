import type { Action } from '@/api/client'

/** The mark for a verdict: one that let pass and recorded shows as `log`. */
export function shownAction(verdict: Exclude<Action, 'log'>, recorded: boolean): Action {
  return verdict === 'allow' && recorded ? 'log' : verdict
}
