import { useMutation } from '@tanstack/vue-query'

import { api, type Schemas, told } from '@/api/client'

export type FleetVerdicts = Schemas['FleetVerdicts']
export type MachinesCompared = Schemas['MachinesCompared']
export type AttemptAnywhere = Schemas['AttemptAnywhere']

/** What all machines would do about an attempt, group by group. */
export const useGroupsCompared = () =>
  useMutation({
    mutationFn: (body: AttemptAnywhere) => told(api.POST('/api/v1/compare/groups', { body })),
  })

/** What two machines would do, and what of their differences decides. */
export const useMachinesCompared = () =>
  useMutation({
    mutationFn: ({ body, first, second }: { body: AttemptAnywhere; first: string; second: string }) =>
      told(api.POST('/api/v1/compare/machines', { body, params: { query: { first, second } } })),
  })
