import { useMutation } from '@tanstack/vue-query'

import { changing } from '@/api/changing'
import { api, type Schemas, told } from '@/api/client'

export type Why = Schemas['Why']
export type Cause = Schemas['Cause']
export type Question = Schemas['WhyQuestion']

/** Why an attempt does, or does not, come to what was expected. */
export const useWhy = () =>
  useMutation({ mutationFn: (body: Question) => told(api.POST('/api/v1/why', { body })) })

/** Make the change that mends a cause. */
export const useMend = () =>
  changing(['revision'])((body: Schemas['WhyRemedy'], query) =>
    told(api.POST('/api/v1/why/remedy', { body, params: { query } })),
  )
