import type { Schemas } from '@/api/client'
import { programOf, programText } from '@/lib/tried'
import { targetText } from '@/rulesets/kinds'

export type Probe = Schemas['Probe']
type Target = Schemas['ProbeSet']['to'][number]

/** A probe as it is being written: words for what is tried and where, nothing where something is left open. */
export interface ProbeDraft {
  expect: Probe['expect']
  what: string
  to: string
  name: string
  user: string
  browser: string
  window: string
  reached_by: string
  place: string
  layer: string
  ruleset: string
  notice: string
  at: string
  /** What else is known of the program, as long as it is the one in `what`. */
  start: Probe['start']
}

/** What a probe tries, as it is written: a URL or a host, program:NAME, or a SHA-256. */
export const triedText = (probe: Pick<Probe, 'visit' | 'start'>) =>
  probe.visit ?? (probe.start ? programText(probe.start) : '')

export const draftOfProbe = (probe?: Probe): ProbeDraft => ({
  expect: probe?.expect ?? 'block',
  what: probe ? triedText(probe) : '',
  to: probe?.to ? targetText(probe.to) : '',
  name: probe?.name ?? '',
  user: probe?.user ?? '',
  browser: probe?.browser ?? '',
  window: probe?.window ?? '',
  // typed in is what is so where nothing is said
  reached_by: probe?.reached_by === 'typed' ? '' : (probe?.reached_by ?? ''),
  place: probe?.place ?? '',
  layer: probe?.layer ?? '',
  ruleset: probe?.ruleset ?? '',
  notice: probe?.notice == null ? '' : String(probe.notice),
  at: probe?.at ?? '',
  start: probe?.start ?? null,
})

/** The targets that words joined by commas mean: a group where there is one of that key, else a machine. */
export const targetsOf = (text: string, groups: Set<string>): Target[] =>
  text
    .split(',')
    .map((word) => word.trim())
    .filter(Boolean)
    .map((word) => (groups.has(word) ? word : { device: word }))

function triedOf({ what, start }: ProbeDraft): Pick<Probe, 'visit' | 'start'> {
  const word = what.trim()
  if (start && word === programText(start)) return { start }
  const program = programOf(word)
  return program ? { start: program } : { visit: word }
}

/** The probe that a draft means. */
export function probeOf(draft: ProbeDraft, groups: Set<string>): Probe {
  const given = Object.fromEntries(
    (['name', 'user', 'browser', 'window', 'reached_by', 'place', 'layer', 'ruleset', 'at'] as const)
      .map((field) => [field, draft[field].trim()])
      .filter(([, value]) => value),
  )
  const to = targetsOf(draft.to, groups)[0]
  const notice = draft.notice ? { notice: draft.notice === 'true' } : {}
  return { ...(to ? { to } : {}), ...triedOf(draft), expect: draft.expect, ...given, ...notice }
}
