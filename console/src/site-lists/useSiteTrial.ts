import { useMutation, useQuery } from '@tanstack/vue-query'
import { computed, type MaybeRefOrGetter, toValue } from 'vue'

import { api, type RulesetBody, told } from '@/api/client'

/** What each family of browsers makes of addresses under a ruleset of sites as it is being written. */
export function useSiteTrial(ruleset: MaybeRefOrGetter<RulesetBody>, urls: MaybeRefOrGetter<string[]>) {
  return useQuery({
    queryKey: ['site-list', 'trial', computed(() => toValue(ruleset)), computed(() => toValue(urls))],
    queryFn: () =>
      told(api.POST('/api/v1/site-lists/try', { body: { ruleset: toValue(ruleset), urls: toValue(urls) } })),
    enabled: computed(() => toValue(urls).length > 0),
    placeholderData: (before) => before,
    retry: false,
  })
}

/** A ruleset of sites as it is being written, begun the other way. Nothing is kept. */
export const useSwitch = () =>
  useMutation({
    mutationFn: (body: RulesetBody) => told(api.POST('/api/v1/site-lists/switch', { body })),
  })
