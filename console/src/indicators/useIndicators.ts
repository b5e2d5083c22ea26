import { keepPreviousData, useMutation, useQuery } from '@tanstack/vue-query'
import { computed, type MaybeRefOrGetter, toValue } from 'vue'

import { changing } from '@/api/changing'
import { api, told, type Schemas } from '@/api/client'
import { usePages } from '@/api/paging'
import type { paths } from '@/api/schema'

export type FoundIndicator = Schemas['FoundIndicator']
export type ImportReport = Schemas['ImportReport']
export type RulesEdit = Schemas['RulesEdit']
export type IndicatorFilters = NonNullable<paths['/api/v1/indicators']['get']['parameters']['query']>
export type FileFormat = 'csv' | 'stix'

const useContentChange = changing(['revision'])

/** Rules of one ruleset, or of all rulesets of indicators, searched by the service. */
export const useIndicators = (filters: MaybeRefOrGetter<IndicatorFilters>) =>
  usePages(['indicators', computed(() => toValue(filters))], (cursor) =>
    told(api.GET('/api/v1/indicators', { params: { query: { ...toValue(filters), cursor } } })),
  )

/** Put some rules in and take some out, of however many. */
export const useEditRules = () =>
  useContentChange(({ ruleset, body }: { ruleset: string; body: RulesEdit }, query) =>
    told(api.POST('/api/v1/rulesets/{key}/rules', { params: { path: { key: ruleset }, query }, body })),
  )

export interface FileOfRules {
  ruleset: string
  file: File
  format: FileFormat
  replace: boolean
  action?: 'allow' | 'warn' | 'block' | 'log'
}

const sent = ({ file }: FileOfRules) => ({
  body: file as unknown as string,
  bodySerializer: () => file,
  headers: { 'Content-Type': 'application/octet-stream' },
})

/** What putting a file of rules in would come to. */
export const useWeighRules = () =>
  useMutation({
    mutationFn: (rules: FileOfRules) =>
      told(
        api.POST('/api/v1/rulesets/{key}/import/check', {
          params: {
            path: { key: rules.ruleset },
            query: { format: rules.format, replace: rules.replace, action: rules.action },
          },
          ...sent(rules),
        }),
      ),
  })

export const useImportRules = () =>
  useContentChange((rules: FileOfRules, query) =>
    told(
      api.POST('/api/v1/rulesets/{key}/import', {
        params: {
          path: { key: rules.ruleset },
          query: { ...query, format: rules.format, replace: rules.replace, action: rules.action },
        },
        ...sent(rules),
      }),
    ),
  )

export const useCapacity = () =>
  useQuery({ queryKey: ['capacity'], queryFn: () => told(api.GET('/api/v1/indicators/capacity')) })

/** What can go without any verdict becoming another one. */
export const useCleanable = (enabled: MaybeRefOrGetter<boolean>) =>
  useQuery({
    queryKey: ['clean-up'],
    queryFn: () => told(api.GET('/api/v1/indicators/clean-up')),
    enabled,
    placeholderData: keepPreviousData,
  })

export type CleanUpReason = 'ended' | 'duplicate' | 'overshadowed'

export const useCleanUp = () =>
  useContentChange(({ because }: { because: CleanUpReason[] }, query) =>
    told(api.POST('/api/v1/indicators/clean-up', { params: { query: { ...query, because } } })),
  )
