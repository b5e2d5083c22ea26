import { useMutation, useQueryClient } from '@tanstack/vue-query'

/** The header by which a creation that is sent again is made once. */
export const key = () => ({ 'Idempotency-Key': crypto.randomUUID() })

/** The header that names the version of an object that was seen. */
export const match = (version: number) => ({ 'If-Match': `"r${version}"` })

/** Mutations after which these queries are read again. */
export function changing(subjects: string[]) {
  return function useChange<Variables, Result>(change: (variables: Variables) => Promise<Result>) {
    const queries = useQueryClient()
    return useMutation({
      mutationFn: change,
      onSuccess: () =>
        Promise.all(subjects.map((queryKey) => queries.invalidateQueries({ queryKey: [queryKey] }))),
    })
  }
}
