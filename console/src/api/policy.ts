import { useQuery } from '@tanstack/vue-query'
import { computed, toValue, type MaybeRefOrGetter } from 'vue'

import { changing, key, match } from './changing'
import { api, told, type Assignment, type Ruleset, type RulesetBody } from './client'
import { crud, listKey } from './crud'
import type { components } from './schema'

type NewAssignment = components['schemas']['NewAssignment']
export type AssignmentBody = components['schemas']['Assignment']

/** The web taxonomy; it changes with the program only. */
export function useTaxonomy() {
  return useQuery({
    queryKey: ['taxonomy'],
    queryFn: () => told(api.GET('/api/v1/taxonomy')),
    staleTime: Infinity,
  })
}

const rulesets = crud<Ruleset, RulesetBody>('rulesets')
const assignments = crud<Assignment, AssignmentBody>('assignments')

/** All rulesets, their rules counted. */
export const useRulesets = () => rulesets.useAll()
export const useCreateRuleset = rulesets.useCreate
export const usePutRuleset = rulesets.usePut

/** One ruleset with its rules; nothing is asked where there are too many to edit here. */
export const useRuleset = (own: MaybeRefOrGetter<string>, enabled: MaybeRefOrGetter<boolean>) =>
  useQuery({
    queryKey: [...listKey('rulesets'), computed(() => toValue(own))],
    queryFn: () => told(api.GET('/api/v1/rulesets/{key}', { params: { path: { key: toValue(own) } } })),
    enabled,
  })

/** All assignments. */
export const useAssignments = () => assignments.useAll()
export const usePutAssignment = assignments.usePut
export const useRemoveAssignment = assignments.useRemove

/** A ruleset, saved or not, in words. */
export function useRulesetSentence(ruleset: MaybeRefOrGetter<RulesetBody>) {
  return useQuery({
    queryKey: ['sentence', computed(() => toValue(ruleset).kind), computed(() => toValue(ruleset).rules)],
    queryFn: async () => {
      const body = { ...toValue(ruleset), key: 'described', name: null }
      return (await told(api.POST('/api/v1/sentences/ruleset', { body }))).sentence
    },
    placeholderData: (before) => before,
    staleTime: Infinity,
  })
}

const useChange = changing(['revision'])

/** Put a ruleset on groups. */
export const useAssign = () =>
  useChange((body: NewAssignment, query) =>
    told(api.POST('/api/v1/assignments', { params: { query }, body, headers: key() })),
  )

/** What an assignment is, without what lists add to it. */
export function assignmentBody(one: Assignment): AssignmentBody {
  const body: Partial<Assignment> = { ...one }
  delete body.sentence
  delete body.devices
  delete body.version
  return body as AssignmentBody
}

/** Pause an assignment, or put it in force. */
export const useSetState = () =>
  useChange(({ assignment, state }: { assignment: Assignment; state: Assignment['state'] }, query) =>
    told(
      api.PUT('/api/v1/assignments/{key}', {
        params: { path: { key: assignment.key }, query },
        body: { ...assignmentBody(assignment), state },
        headers: match(assignment.version),
      }),
    ),
  )
