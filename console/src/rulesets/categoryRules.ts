import type { Action, Rule } from '@/api/client'

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

/** The action that rules take on each subject. */
export const actionsOf = (rules: Rule[] = []): Record<Subject, Action> =>
  Object.fromEntries(rules.map((rule) => [subjectOf(rule), rule.action]))

/** The rules with these actions. Those that were there before keep their places and notes; new ones follow. */
export function rulesOf(actions: Record<Subject, Action>, earlier: Rule[] = []): Rule[] {
  const before = new Map(earlier.map((rule) => [subjectOf(rule), rule]))
  const kept = [...before.keys()].filter((subject) => subject in actions)
  const added = Object.keys(actions).filter((subject) => !before.has(subject))
  return [...kept, ...added].map((subject) => ruleOf(subject, actions[subject], before.get(subject)))
}
