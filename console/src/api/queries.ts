import type { Query, QueryClient } from '@tanstack/vue-query'

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
    'site-list',
    'browsers',
    'clean-up',
    'category-index',
    'applications',
    'restrictions',
  ],
  device: [
    'devices',
    'device',
    'browsers',
    'pushes',
    'rollout',
    'blocks',
    'estate groups',
    'readiness',
    'applications',
    'enrolment-codes',
  ],
  activity: ['activity'],
  finding: ['findings', 'worklist'],
  access: ['access'],
  push: ['pushes'],
  errand: ['errands'],
  run: ['runs', 'worklist'],
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

/** The queries that concern one of these subjects. */
function concerned(queries: QueryClient, subjects: readonly Subject[]): Set<Query> {
  const keys = new Set(subjects.flatMap((subject) => CONCERNS[subject] ?? []))
  return new Set([...keys].flatMap((key) => queries.getQueryCache().findAll({ queryKey: key.split(' ') })))
}

/**
 * Read again all that concerns these subjects, which have changed; resolves when what is shown has been read.
 *
 * What is being read already may have been asked for before the change: it is read once more after that, and not
 * broken off, or a slow answer would never come while changes go on.
 */
export async function readAgain(queries: QueryClient, subjects: readonly Subject[]) {
  const reading = [...concerned(queries, subjects)].map(async (query) => {
    if (query.state.fetchStatus === 'fetching') await query.promise?.catch(() => {})
    await queries.invalidateQueries({ queryKey: query.queryKey, exact: true }, { cancelRefetch: false })
  })
  await Promise.all(reading)
}

/** Read again what was read before changes were followed: while nobody listened it may have changed. */
export const readSettledAgain = (queries: QueryClient) =>
  queries.invalidateQueries({
    predicate: ({ queryKey, state }) => queryKey[0] !== 'session' && state.fetchStatus === 'idle',
  })
