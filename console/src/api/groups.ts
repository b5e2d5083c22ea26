import { useQuery } from '@tanstack/vue-query'
import { computed, toValue, type MaybeRefOrGetter } from 'vue'

import { changing, key, match } from './changing'
import { api, told, type GroupBody } from './client'

const useChange = changing(['groups', 'group-order', 'devices', 'device', 'revisions', 'rollout'])

/** All groups, strongest first. */
export function useGroups() {
  return useQuery({
    queryKey: ['groups'],
    queryFn: async () => (await told(api.GET('/api/v1/groups'))).items,
  })
}

/** All groups to choose from, with their sizes; `any` is what stands for no choice. */
export function useGroupOptions(any: string) {
  const { data: groups } = useGroups()
  return computed(() => [
    { value: '', text: any },
    ...(groups.value ?? []).map(({ key, name, devices }) => ({ value: key, text: `${name} (${devices})` })),
  ])
}

/** The facts that membership conditions may name; they change with the program only. */
export function useMembershipFields() {
  return useQuery({
    queryKey: ['membership-fields'],
    queryFn: () => told(api.GET('/api/v1/membership-fields')),
    staleTime: Infinity,
  })
}

/** Whom a group, saved or not, would hold. */
export function useGroupPreview(group: MaybeRefOrGetter<GroupBody | null>) {
  return useQuery({
    queryKey: ['group-preview', computed(() => toValue(group))],
    queryFn: () => told(api.POST('/api/v1/groups/preview', { body: toValue(group)! })),
    enabled: computed(() => toValue(group) !== null),
    placeholderData: (before) => before,
    retry: false,
  })
}

/** The one order of groups, strongest first. */
export function useGroupOrder() {
  return useQuery({ queryKey: ['group-order'], queryFn: () => told(api.GET('/api/v1/precedence')) })
}

/** Put groups into another order, as it was seen at a version. */
export const usePutOrder = () =>
  useChange(({ body, version }: { body: string[]; version: number }, query) =>
    told(
      api.PUT('/api/v1/precedence', {
        params: { query },
        body: { precedence: body },
        headers: match(version),
      }),
    ),
  )

/** Make a group. */
export const useCreateGroup = () =>
  useChange((body: GroupBody, query) =>
    told(api.POST('/api/v1/groups', { params: { query }, body, headers: key() })),
  )

/** Change a group as it was seen at a version. */
export const usePutGroup = () =>
  useChange(({ body, version }: { body: GroupBody; version: number }, query) =>
    told(
      api.PUT('/api/v1/groups/{key}', {
        params: { path: { key: body.key }, query },
        body,
        headers: match(version),
      }),
    ),
  )

/** Copy a group, right behind the original. */
export const useCopyGroup = () =>
  useChange(({ group, as }: { group: string; as: string }, query) =>
    told(
      api.POST('/api/v1/groups/{key}/copy', { params: { path: { key: group }, query }, body: { key: as } }),
    ),
  )

/** Remove a group that nothing names. */
export const useRemoveGroup = () =>
  useChange(({ group, version }: { group: string; version: number }, query) =>
    told(
      api.DELETE('/api/v1/groups/{key}', {
        params: { path: { key: group }, query },
        headers: match(version),
      }),
    ),
  )
