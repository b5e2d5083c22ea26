import { computed, reactive, watch } from 'vue'

import type { Condition, Group, GroupBody, MembershipRule } from '@/api/client'
import { useKeptDraft } from '@/editing/useKeptDraft'

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

export function draftOf(rule: MembershipRule | null | undefined): DraftRule {
  const branches = (part: Branch[] | null | undefined): DraftBranch[] =>
    (part ?? []).map((one) => (isCondition(one) ? { condition: { ...one } } : { rule: draftOf(one) }))
  return { all: branches(rule?.all), any: branches(rule?.any), none: branches(rule?.none) }
}

export function ruleOf(draft: DraftRule): MembershipRule | null {
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

/** A group being edited, the body that comes of it, and whether that differs from what is saved. */
export function useGroupDraft(saved: () => Group | undefined, begin?: { key: string; rule: MembershipRule }) {
  const draft = reactive({
    key: '',
    name: '',
    rule: emptyRule(),
    in: [] as DraftPin[],
    out: [] as DraftPin[],
    base: undefined as Group | undefined,
  })

  function reset() {
    const group = saved()
    draft.base = group
    draft.key = group?.key ?? begin?.key ?? ''
    draft.name = group && group.name !== group.key ? group.name : ''
    draft.rule = draftOf(group ? group.members : begin?.rule)
    draft.in = draftPins(group?.pins?.in)
    draft.out = draftPins(group?.pins?.out)
  }

  const body = computed<GroupBody>(() => {
    const pins = { in: pinsOf(draft.in), out: pinsOf(draft.out) }
    return {
      key: draft.key.trim(),
      name: draft.name.trim() || null,
      members: ruleOf(draft.rule),
      pins: pins.in.length || pins.out.length ? pins : null,
    }
  })
  const plain = (value: unknown) => JSON.stringify(value)
  const before = computed<GroupBody | null>(() => {
    const base = draft.base
    if (!base) return null
    const pins = { in: pinsOf(draftPins(base.pins?.in)), out: pinsOf(draftPins(base.pins?.out)) }
    return {
      key: base.key,
      name: base.name !== base.key ? base.name : null,
      members: ruleOf(draftOf(base.members)),
      pins: pins.in.length || pins.out.length ? pins : null,
    }
  })
  const changed = computed(() =>
    before.value
      ? plain(body.value) !== plain(before.value)
      : Boolean(body.value.key || body.value.name || body.value.members || body.value.pins),
  )

  reset()
  type Kept = Pick<typeof draft, 'key' | 'name' | 'rule' | 'in' | 'out'>
  const kept = useKeptDraft<Kept>(
    `group ${saved()?.key ?? '+new'}`,
    () => ({ key: draft.key, name: draft.name, rule: draft.rule, in: draft.in, out: draft.out }),
    changed,
    () => draft.base?.version ?? 0,
  )
  if (kept && !begin) {
    Object.assign(draft, kept.draft)
    // saved meanwhile by somebody else: saving this will show both
    if (draft.base) draft.base = { ...draft.base, version: kept.version }
  }
  // what others save shows at once, unless it would take away what is being edited
  watch(saved, () => {
    if (!changed.value) reset()
  })
  return { draft, body, changed, reset }
}
