import type { Condition, Group, GroupBody, MembershipRule } from '@/api/client'

/** A membership rule while it is edited: the three parts are always there, and may be empty. */
export interface DraftRule {
  all: DraftBranch[]
  any: DraftBranch[]
  none: DraftBranch[]
}
export type DraftBranch = { condition: Condition } | { rule: DraftRule }
export interface DraftPin {
  device: string
  reason: string
}

export const PARTS = ['all', 'any', 'none'] as const
export const emptyRule = (): DraftRule => ({ all: [], any: [], none: [] })
export const newCondition = (): Condition => ({ field: 'unit', op: 'under', value: '' })

type Branch = Condition | MembershipRule
const isCondition = (branch: Branch): branch is Condition => 'field' in branch

function draftRule(rule: MembershipRule | null | undefined): DraftRule {
  const branches = (part: Branch[] | null | undefined): DraftBranch[] =>
    (part ?? []).map((one) => (isCondition(one) ? { condition: { ...one } } : { rule: draftRule(one) }))
  return { all: branches(rule?.all), any: branches(rule?.any), none: branches(rule?.none) }
}

function ruleOf(draft: DraftRule): MembershipRule | null {
  const parts: MembershipRule = {}
  for (const part of PARTS) {
    const branches = draft[part]
      .map((one) => ('condition' in one ? one.condition : ruleOf(one.rule)))
      .filter((one): one is Branch => one !== null)
    if (branches.length) parts[part] = branches
  }
  return Object.keys(parts).length ? parts : null
}

function pinsOf(pins: DraftPin[]) {
  return pins
    .filter(({ device }) => device.trim())
    .map(({ device, reason }) =>
      reason.trim() ? { device: device.trim(), reason: reason.trim() } : device.trim(),
    )
}

function draftPins(pins: (string | { device: string; reason?: string | null })[] | undefined): DraftPin[] {
  return (pins ?? []).map((pin) =>
    typeof pin === 'string' ? { device: pin, reason: '' } : { device: pin.device, reason: pin.reason ?? '' },
  )
}

/** A group as it is edited. */
export const draftOf = (group: Group | undefined) => ({
  key: group?.key ?? '',
  name: group && group.name !== group.key ? group.name : '',
  rule: draftRule(group?.members),
  in: draftPins(group?.pins?.in),
  out: draftPins(group?.pins?.out),
  checkIn: group?.check_in_seconds ? String(group.check_in_seconds) : '',
})

/** What a new group begins with, where another page proposes its rule. */
export const beginWith = (begin: { key: string; rule: MembershipRule }) => ({
  key: begin.key,
  rule: draftRule(begin.rule),
})

/** The group that comes of a draft. */
export function bodyOf(draft: ReturnType<typeof draftOf>): GroupBody {
  const pins = { in: pinsOf(draft.in), out: pinsOf(draft.out) }
  return {
    key: draft.key.trim(),
    name: draft.name.trim() || null,
    members: ruleOf(draft.rule),
    pins: pins.in.length || pins.out.length ? pins : null,
    check_in_seconds: draft.checkIn ? Number(draft.checkIn) : null,
  }
}
