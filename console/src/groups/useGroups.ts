import { useQuery } from '@tanstack/vue-query'
import { computed, type MaybeRefOrGetter, toValue } from 'vue'

import { changing, match } from '@/api/changing'
import { api, type Group, type GroupBody, told } from '@/api/client'
import { crud, listKey } from '@/api/crud'

const useChange = changing(['revision'])
export const groups = crud<Group, GroupBody>('groups')

/** All groups, strongest first. */
export const useGroups = () => groups.useAll()

/** All groups to choose from, with their sizes; `any` is what stands for no choice. */
export function useGroupOptions(any: string) {
  const { data } = useGroups()
  return computed(() => [
    { value: '', text: any },
    ...(data.value ?? []).map(({ key, name, devices }) => ({ value: key, text: `${name} (${devices})` })),
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
  return useQuery({ queryKey: listKey('precedence'), queryFn: () => told(api.GET('/api/v1/precedence')) })
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

/** Copy a group, right behind the original. */
export const useCopyGroup = () =>
  useChange(({ group, as }: { group: string; as: string }, query) =>
    told(
      api.POST('/api/v1/groups/{key}/copy', { params: { path: { key: group }, query }, body: { key: as } }),
    ),
  )
