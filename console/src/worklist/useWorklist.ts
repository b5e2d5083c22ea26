import { useQuery } from '@tanstack/vue-query'

import { api, told, type Schemas } from '@/api/client'

export type WorkItem = Schemas['WorkItem']

/** What needs a decision, most urgent first. */
export const useWorklist = () =>
  useQuery({ queryKey: ['worklist'], queryFn: () => told(api.GET('/api/v1/worklist')) })
