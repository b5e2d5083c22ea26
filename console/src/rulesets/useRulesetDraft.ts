import { computed, reactive, toRaw, watch } from 'vue'

import type { Action, Rule, RulesetBody, RulesetState } from '@/api/client'
import { useKeptDraft } from '@/editing/useKeptDraft'

/** Names what a rule is about: `category:games`, `search_term:cheat codes`, `everything`. */
export type Subject = string

function subjectOf(rule: Rule): Subject {
  for (const kind of ['category', 'family', 'search_term', 'media_type'] as const)
    if (rule[kind]) return `${kind}:${rule[kind]}`
  return 'everything'
}

function ruleOf(subject: Subject, action: Action, before: Rule | undefined): Rule {
  if (before) return { ...before, action }
  if (subject === 'everything') return { everything: true, action }
  const at = subject.indexOf(':')
  return { [subject.slice(0, at)]: subject.slice(at + 1), action }
}

/** A ruleset being edited: an action for each subject, the rules that come of it, and whether they differ. */
export function useRulesetDraft(saved: () => RulesetState | undefined) {
  const draft = reactive({
    key: '',
    name: '',
    actions: new Map<Subject, Action>(),
    base: undefined as RulesetState | undefined,
  })

  function reset() {
    const ruleset = saved()
    draft.base = ruleset
    draft.key = ruleset?.key ?? ''
    draft.name = ruleset && ruleset.name !== ruleset.key ? ruleset.name : ''
    draft.actions = new Map((ruleset?.rules ?? []).map((rule) => [subjectOf(rule), rule.action]))
  }
  reset()

  const rules = computed<Rule[]>(() => {
    const before = new Map((draft.base?.rules ?? []).map((rule) => [subjectOf(rule), rule]))
    // rules that were there keep their place and their notes; new ones follow
    const kept = [...before.keys()].filter((subject) => draft.actions.has(subject))
    const added = [...draft.actions.keys()].filter((subject) => !before.has(subject))
    return [...kept, ...added].map((subject) =>
      ruleOf(subject, draft.actions.get(subject)!, before.get(subject)),
    )
  })
  const body = computed<RulesetBody>(() => ({
    key: draft.key.trim(),
    name: draft.name.trim() || null,
    kind: 'category',
    rules: rules.value,
  }))
  const changed = computed(() => {
    const base = draft.base
    if (!base) return draft.key !== '' || draft.name !== '' || draft.actions.size > 0
    const name = base.name !== base.key ? base.name : ''
    return draft.name !== name || JSON.stringify(rules.value) !== JSON.stringify(toRaw(base.rules))
  })

  interface Kept {
    key: string
    name: string
    actions: [Subject, Action][]
  }
  const kept = useKeptDraft<Kept>(
    `category ruleset ${saved()?.key ?? '+new'}`,
    () => ({ key: draft.key, name: draft.name, actions: [...draft.actions] }),
    changed,
    () => draft.base?.version ?? 0,
  )
  if (kept) {
    Object.assign(draft, kept.draft, { actions: new Map(kept.draft.actions) })
    // saved meanwhile by somebody else: saving this will show both
    if (draft.base) draft.base = { ...draft.base, version: kept.version }
  }

  // what others save shows at once, unless it would take away what is being edited
  watch(saved, () => {
    if (!changed.value) reset()
  })

  return {
    draft,
    body,
    changed,
    reset,
    get: (subject: Subject) => draft.actions.get(subject) ?? null,
    set(subject: Subject, action: Action | null) {
      if (action) draft.actions.set(subject, action)
      else draft.actions.delete(subject)
    },
  }
}
