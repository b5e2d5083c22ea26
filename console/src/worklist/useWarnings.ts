import { useQuery } from '@tanstack/vue-query'
import { computed, type MaybeRefOrGetter, toValue } from 'vue'

import { api, type RulesetBody, told, type Schemas } from '@/api/client'

type NewAssignment = Schemas['NewAssignment']

/** What should be known of a ruleset or an assignment that is being written. */
export function useWarnings(
  written: MaybeRefOrGetter<{ ruleset?: RulesetBody; assignment?: NewAssignment } | null>,
) {
  return useQuery({
    queryKey: ['warnings', computed(() => toValue(written))],
    queryFn: () => told(api.POST('/api/v1/warnings', { body: toValue(written)! })),
    enabled: computed(() => toValue(written) !== null),
    placeholderData: (before) => before,
    retry: false,
  })
}
