import { useMutation, useQuery, useQueryClient } from '@tanstack/vue-query'
import { computed } from 'vue'

import { reaches } from './needs'
import { api, Problem, type Session, setCsrfToken, told } from '@/api/client'

async function load(): Promise<Session | null> {
  try {
    const session = await told(api.GET('/api/v1/session'))
    setCsrfToken(session.csrf_token)
    return session
  } catch (problem) {
    if (problem instanceof Problem && problem.status === 401) return null
    throw problem
  }
}

/** Who is signed in: null for nobody. */
export function useSession() {
  const query = useQuery({ queryKey: ['session'], queryFn: load, staleTime: 60_000, retry: false })
  const mayAuthor = computed(() => reaches(query.data.value, 'author'))
  const mayKeep = computed(() => reaches(query.data.value, 'keeper'))
  return { ...query, mayAuthor, mayKeep }
}

/** Sign in with name and password. */
export function useSignIn() {
  const queries = useQueryClient()
  return useMutation({
    mutationFn: (body: { name: string; password: string }) => told(api.POST('/api/v1/session', { body })),
    onSuccess(session) {
      setCsrfToken(session.csrf_token)
      queries.setQueryData(['session'], session)
    },
  })
}

/** Sign out; everything that was read is forgotten. */
export function useSignOut() {
  const queries = useQueryClient()
  return useMutation({
    mutationFn: () => told(api.DELETE('/api/v1/session')),
    onSettled() {
      setCsrfToken(null)
      queries.setQueryData(['session'], null)
      queries.removeQueries({ predicate: ({ queryKey }) => queryKey[0] !== 'session' })
    },
  })
}
