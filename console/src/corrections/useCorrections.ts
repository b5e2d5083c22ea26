import { computed, type MaybeRefOrGetter, toValue } from 'vue'

import { api, told, type Schemas } from '@/api/client'
import { crud, listKey } from '@/api/crud'
import { usePages } from '@/api/paging'

export type Correction = Schemas['CorrectionSummary']
export type CorrectionBody = Schemas['Correction']

export const useCorrections = (q: MaybeRefOrGetter<string>) =>
  usePages([...listKey('corrections'), computed(() => toValue(q))], (cursor) =>
    told(
      api.GET('/api/v1/corrections', {
        params: { query: { q: toValue(q) || undefined, cursor, limit: 100 } },
      }),
    ),
  )

const corrections = crud<Correction, CorrectionBody>('corrections', 'host')

export const usePutCorrection = corrections.usePut
export const useRemoveCorrection = corrections.useRemove
