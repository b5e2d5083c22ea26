import { useQuery } from '@tanstack/vue-query'

import { changing, match } from '@/api/changing'
import { api, type CoverageRow, told } from '@/api/client'
import { listKey } from '@/api/crud'

type CoverageBody = Omit<CoverageRow, 'shipped' | 'version'>

const useChange = changing(['revision'])

/** The coverage table. */
export function useCoverage() {
  return useQuery({ queryKey: listKey('coverage'), queryFn: () => told(api.GET('/api/v1/coverage')) })
}

/** Put a row into the coverage table. */
export const usePutCoverage = () =>
  useChange(({ row, version }: { row: CoverageBody; version?: number | null }, query) =>
    told(api.PUT('/api/v1/coverage', { params: { query }, body: row, headers: match(version) })),
  )

/** Put a row back as shipped. */
export const useResetCoverage = () =>
  useChange((row: CoverageRow, query) =>
    told(
      api.DELETE('/api/v1/coverage/{key}', {
        params: { path: { key: `${row.control}/${row.browser}/${row.platform}` }, query },
        headers: match(row.version),
      }),
    ),
  )
