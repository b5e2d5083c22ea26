import { useQuery } from '@tanstack/vue-query'
import { computed, type MaybeRefOrGetter, toValue } from 'vue'

import { changing } from '@/api/changing'
import { api, type Schemas, told } from '@/api/client'
import { usePages } from '@/api/paging'

export type Run = Schemas['Run']
export type ProbeResult = Schemas['ProbeResult']
export type RunCause = Schemas['RunCause']

const useChange = changing(['run'])

/** The runs that are kept, the newest first. */
export const useRuns = () =>
  usePages(['runs'], (cursor) => told(api.GET('/api/v1/runs', { params: { query: { cursor, limit: 50 } } })))

/** One run with what came of each probe; while it is under way, as far as it is. */
export const useRun = (id: MaybeRefOrGetter<number | undefined>) =>
  useQuery({
    queryKey: ['runs', computed(() => toValue(id))],
    queryFn: () => told(api.GET('/api/v1/runs/{id}', { params: { path: { id: toValue(id)! } } })),
    enabled: computed(() => toValue(id) !== undefined),
    // told of too, but what is under way may end before anybody follows
    refetchInterval: ({ state }) => (state.data?.state === 'running' ? 1_000 : false),
  })

/** How many rules in force a probe has met of late. */
export const useProbedRules = () =>
  useQuery({
    queryKey: ['runs', 'probed-rules'],
    queryFn: () => told(api.GET('/api/v1/runs/probed-rules', { params: { query: { limit: 1 } } })),
  })

/** Try probe sets over the fleet, or a part of it. */
export const useStartRun = () =>
  useChange((body: Partial<Schemas['NewRun']> & Pick<Schemas['NewRun'], 'sets' | 'on'>) =>
    told(
      api.POST('/api/v1/runs', {
        body: { kind: 'predicted', seconds: 60, expect: 'block', pictures: false, ...body },
        params: { query: { wait: 2 } },
      }),
    ),
  )

/** The machines on which a probe did not come out for a cause. */
export const useRunDevices = (
  run: MaybeRefOrGetter<number>,
  result: MaybeRefOrGetter<ProbeResult>,
  cause: MaybeRefOrGetter<string>,
) =>
  usePages(
    [
      'runs',
      computed(() => toValue(run)),
      computed(() => `${toValue(result).set}/${toValue(result).number}/${toValue(cause)}`),
    ],
    (cursor) =>
      told(
        api.GET('/api/v1/runs/{id}/devices', {
          params: {
            path: { id: toValue(run) },
            query: {
              set: toValue(result).set,
              number: toValue(result).number,
              cause: toValue(cause),
              cursor,
              limit: 50,
            },
          },
        }),
      ),
  )
