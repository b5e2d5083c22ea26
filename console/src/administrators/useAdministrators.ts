import { useQuery } from '@tanstack/vue-query'

import { changing } from '@/api/changing'
import { api, type Schemas, told } from '@/api/client'

export type Administrator = Schemas['Administrator']
export type AdministratorChange = Schemas['AdministratorChange']
export type NewAdministrator = Schemas['NewAdministrator']

const useChange = changing(['access'])
const at = (name: string) => ({ path: { name } })

/** Who may use the service, by name. */
export const useAdministrators = () =>
  useQuery({ queryKey: ['access', 'administrators'], queryFn: () => told(api.GET('/api/v1/administrators')) })

/** Make an administrator; the first password is told this once. */
export const useMakeAdministrator = () =>
  useChange((body: NewAdministrator) => told(api.POST('/api/v1/administrators', { body })))

/** Say something else of an administrator, as they were seen. */
export const usePutAdministrator = () =>
  useChange(({ seen, body }: { seen: Administrator; body: AdministratorChange }) =>
    told(
      api.PUT('/api/v1/administrators/{name}', {
        params: { ...at(seen.name), header: { 'if-match': `"a${seen.version}"` } },
        body,
      }),
    ),
  )

/** A first password again; it is told this once. */
export const useResetAdministrator = () =>
  useChange((name: string) => told(api.POST('/api/v1/administrators/{name}/reset', { params: at(name) })))

/** Remove an administrator, with sessions and tokens. */
export const useRemoveAdministrator = () =>
  useChange((name: string) => told(api.DELETE('/api/v1/administrators/{name}', { params: at(name) })))
