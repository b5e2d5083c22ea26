import createClient from 'openapi-fetch'

import type { components, paths } from './schema'
import { answered } from './working'

export type Schemas = components['schemas']
export type Device = Schemas['Device']
export type DeviceEvent = Schemas['DeviceEvent']
export type Readiness = Schemas['Readiness']
export type FleetReadiness = Schemas['FleetReadiness']
export type LayerCount = Schemas['LayerCount']
export type BlockerCount = Schemas['BlockerCount']
export type LayerName = LayerCount['layer']
export type LayerMode = Schemas['LayerMode']
export type Group = Schemas['GroupSummary']
export type GroupBody = Schemas['Group']
export type GroupPreview = Schemas['GroupPreview']
export type Condition = Schemas['Condition']
export type MembershipRule = Schemas['MembershipRule']
export type MembershipField = Schemas['MembershipField']
export type Preview = Schemas['Preview']
export type Finding = Schemas['Finding']
export type Findings = Schemas['Findings']
export type Board = Schemas['Board']
export type Overlap = Schemas['Overlap']
export type Worklist = Schemas['Worklist']
export type AuthoringWarning = Schemas['AuthoringWarning']
export type ToldRevision = Schemas['ToldRevision']
export type ToldChange = Schemas['ToldChange']
export type GroupLayers = Schemas['GroupLayersState']
export type Settings = Schemas['SettingsState']
export type CoverageRow = Schemas['CoverageEntry']
export type EnrolmentCode = Schemas['EnrolmentCodeSummary']
export type MadeCode = Schemas['EnrolmentCode']
export type Invitation = Schemas['Invitation']
export type Ruleset = Schemas['RulesetSummary']
export type RulesetState = Schemas['RulesetState']
export type RulesetBody = Schemas['Ruleset']
export type Rule = Schemas['Rule']
export type Assignment = Schemas['AssignmentSummary']
export type Taxonomy = Schemas['Taxonomy']
export type Explanation = Schemas['Explanation']
export type LayerVerdict = Schemas['LayerVerdict']
export type Blocks = Schemas['Blocks']
export type Caveat = Schemas['Caveat']
export type Activity = Schemas['Activity']
export type Revision = Schemas['Revision']
export type Counts = Schemas['RolloutCounts']
export type RolloutState = Schemas['RolloutState']
export type Session = Schemas['Session']
export type Action = Schemas['Action']

/** A problem answer of the service (RFC 9457). `extra` carries what comes beside the standard members. */
export class Problem extends Error {
  constructor(
    readonly status: number,
    readonly kind: string,
    detail: string,
    readonly extra: Record<string, unknown> = {},
  ) {
    super(detail)
  }
}

let csrfToken: string | null = null

/** Remember the session's CSRF token; it goes along with every change. */
export function setCsrfToken(token: string | null | undefined): void {
  csrfToken = token ?? null
}

export const api = createClient<paths>({ baseUrl: '', fetch: answered })

api.use({
  onRequest({ request }) {
    if (csrfToken && request.method !== 'GET') request.headers.set('X-CSRF-Token', csrfToken)
    return request
  },
  onResponse({ response }) {
    const revision = response.headers.get('Portero-Revision')
    if (revision) madeRevision = Number(revision)
  },
})

let madeRevision = 0

/** The revision that the newest change of this page made. */
export const newestMade = () => madeRevision

type Answer<T> = { data?: T; error?: unknown; response: Response }

/** The answer's data, or a Problem thrown. Only a change that asks for its preview gets one: see `changing`. */
export async function told<T>(answer: Promise<Answer<T>>): Promise<Exclude<T, Preview>> {
  let result: Answer<T>
  try {
    result = await answer
  } catch {
    throw new Problem(0, 'unreachable', 'The service does not answer. Is it running?')
  }
  if (result.response.ok) return result.data as Exclude<T, Preview>
  const body = (result.error ?? {}) as Record<string, unknown>
  const kind =
    String(body.type ?? '')
      .split(':')
      .pop() ?? ''
  const others = ((body.errors ?? []) as { detail: string }[]).slice(1).map((fault) => fault.detail)
  const detail = String(body.detail ?? `The service answered ${result.response.status}.`)
    // here they are all said
    .replace(/ \(and \d+ more, see errors\)$/, `; ${others.join('; ')}.`)
  throw new Problem(result.response.status, kind, detail, body)
}
