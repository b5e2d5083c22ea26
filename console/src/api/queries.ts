/**
 * What is read again when a subject has changed, by the first words of a query's key: used by what changes something
 * here, and by what hears that somebody else did. All that administrators author stands below `estate`, so that a noun
 * to come is heard of too.
 */
export const CONCERNS = {
  revision: [
    'estate',
    'findings',
    'worklist',
    'board',
    'overlap',
    'revisions',
    'rollout',
    'devices',
    'device',
    'blocks',
    'readiness',
    'lookup',
    'indicators',
    'capacity',
    'clean-up',
    'category-index',
  ],
  device: ['devices', 'device', 'rollout', 'blocks', 'estate groups', 'readiness', 'enrolment-codes'],
  activity: ['activity'],
  finding: ['findings', 'worklist'],
  feed: [
    'estate feeds',
    'estate rulesets',
    'generations',
    'category-index',
    'lookup',
    'indicators',
    'capacity',
    'worklist',
  ],
} as const

/** Something that can change. */
export type Subject = keyof typeof CONCERNS

/** The beginnings of the keys of all queries that are read again when these subjects have changed. */
export const keysOf = (subjects: readonly Subject[]): string[][] =>
  [...new Set(subjects.flatMap((subject) => CONCERNS[subject] ?? []))].map((key) => key.split(' '))
