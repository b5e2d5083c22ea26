import { useQuery } from '@tanstack/vue-query'
import { computed, type MaybeRefOrGetter, toValue } from 'vue'

import { changing } from '@/api/changing'
import { api, type Ruleset, type RulesetBody, type Schemas, told } from '@/api/client'
import { crud, listKey } from '@/api/crud'

export const rulesets = crud<Ruleset, RulesetBody>('rulesets')

/** All rulesets, their rules counted. */
export const useRulesets = () => rulesets.useAll()

/** One ruleset with its rules; nothing is asked where there are too many to edit here. */
export const useRuleset = (own: MaybeRefOrGetter<string>, enabled: MaybeRefOrGetter<boolean>) =>
  useQuery({
    queryKey: [...listKey('rulesets'), computed(() => toValue(own))],
    queryFn: () => told(api.GET('/api/v1/rulesets/{key}', { params: { path: { key: toValue(own) } } })),
    enabled,
  })

const useChange = changing(['revision'])

/** Say something of some things, somewhere, in few words. */
export const useQuickRules = () =>
  useChange((body: Schemas['QuickRules'], query) =>
    told(api.POST('/api/v1/quick-rules', { params: { query }, body })),
  )

/** A ruleset, saved or not, in words. */
export function useRulesetSentence(ruleset: MaybeRefOrGetter<RulesetBody>) {
  return useQuery({
    queryKey: [
      'sentence',
      computed(() => toValue(ruleset).kind),
      computed(() => toValue(ruleset).rules),
      computed(() => toValue(ruleset).includes),
    ],
    queryFn: async () => {
      const body = { ...toValue(ruleset), key: 'described', name: null }
      return (await told(api.POST('/api/v1/sentences/ruleset', { body }))).sentence
    },
    placeholderData: (before) => before,
    staleTime: Infinity,
  })
}
