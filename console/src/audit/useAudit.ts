import { computed, type MaybeRefOrGetter, toValue } from 'vue'

import { api, type Schemas, told } from '@/api/client'
import { usePages } from '@/api/paging'

export type AuditEntry = Schemas['AuditEntry']
export interface AuditFilters {
  by?: string
  act?: string
}

/** What administrators did, newest first. */
export const useAudit = (filters: MaybeRefOrGetter<AuditFilters>) =>
  usePages(['access', 'audit', computed(() => toValue(filters))], (cursor) =>
    told(api.GET('/api/v1/audit', { params: { query: { ...toValue(filters), cursor, limit: 100 } } })),
  )
