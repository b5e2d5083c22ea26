import { useMutation } from '@tanstack/vue-query'

import { api, type Schemas, told } from '@/api/client'

export type FleetVerdicts = Schemas['FleetVerdicts']
export type MachinesCompared = Schemas['MachinesCompared']
export type MachineVerdict = Schemas['MachineVerdict']
export type Differing = Schemas['Differing']
export type AttemptAnywhere = Schemas['AttemptAnywhere']

/** What all machines would do about an attempt, group by group. */
export const useGroupsCompared = () =>
  useMutation({
    mutationFn: (body: AttemptAnywhere) => told(api.POST('/api/v1/compare/groups', { body })),
  })

/** What the machines on which a person is signed in would do. */
export const usePersonCompared = () =>
  useMutation({
    mutationFn: (body: AttemptAnywhere) => told(api.POST('/api/v1/compare/person', { body })),
  })

/** What a machine does now, and would have done at a moment, with what of the differences decides. */
export const useEarlierCompared = () =>
  useMutation({
    mutationFn: ({ body, device, then }: { body: AttemptAnywhere; device: string; then: string }) =>
      told(api.POST('/api/v1/compare/earlier', { body, params: { query: { device, then } } })),
  })

/** What two machines would do, and what of their differences decides. */
export const useMachinesCompared = () =>
  useMutation({
    mutationFn: ({ body, first, second }: { body: AttemptAnywhere; first: string; second: string }) =>
      told(api.POST('/api/v1/compare/machines', { body, params: { query: { first, second } } })),
  })
