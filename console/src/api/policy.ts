import { useQuery } from '@tanstack/vue-query'
import { computed, toValue, type MaybeRefOrGetter } from 'vue'

import { changing, key, match } from './changing'
import { api, told, type Assignment, type RulesetBody } from './client'
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

/** All rulesets, their rules counted. */
export function useRulesets() {
  return useQuery({
    queryKey: ['rulesets'],
    queryFn: async () => (await told(api.GET('/api/v1/rulesets'))).items,
  })
}

/** One ruleset with its rules; nothing is asked where there are too many to edit here. */
export function useRuleset(own: MaybeRefOrGetter<string>, enabled: MaybeRefOrGetter<boolean>) {
  return useQuery({
    queryKey: ['rulesets', computed(() => toValue(own))],
    queryFn: () => told(api.GET('/api/v1/rulesets/{key}', { params: { path: { key: toValue(own) } } })),
    enabled,
  })
}

/** All assignments. */
export function useAssignments() {
  return useQuery({
    queryKey: ['assignments'],
    queryFn: async () => (await told(api.GET('/api/v1/assignments'))).items,
  })
}

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

const useChange = changing(['rulesets', 'assignments', 'revisions', 'rollout'])

/** Make a ruleset. */
export const useCreateRuleset = () =>
  useChange((body: RulesetBody, query) =>
    told(api.POST('/api/v1/rulesets', { params: { query }, body, headers: key() })),
  )

/** Change a ruleset as it was seen at a version. */
export const usePutRuleset = () =>
  useChange(({ body, version }: { body: RulesetBody; version: number }, query) =>
    told(
      api.PUT('/api/v1/rulesets/{key}', {
        params: { path: { key: body.key }, query },
        body,
        headers: match(version),
      }),
    ),
  )

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

/** Change anything about an assignment as it was seen at a version. */
export const usePutAssignment = () =>
  useChange(({ body, version }: { body: AssignmentBody; version: number }, query) =>
    told(
      api.PUT('/api/v1/assignments/{key}', {
        params: { path: { key: body.key }, query },
        body,
        headers: match(version),
      }),
    ),
  )

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

/** Take a ruleset off its groups. */
export const useRemoveAssignment = () =>
  useChange((assignment: Assignment, query) =>
    told(
      api.DELETE('/api/v1/assignments/{key}', {
        params: { path: { key: assignment.key }, query },
        headers: match(assignment.version),
      }),
    ),
  )
