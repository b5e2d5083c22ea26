import { useMutation, useQueryClient } from '@tanstack/vue-query'
import { computed, ref, shallowRef } from 'vue'

import { planned } from '@/previews/plannedChange'
import type { Preview } from './client'
import { readAgain, type Subject } from './queries'

/** The header by which a creation that is sent again is made once. */
export const key = () => ({ 'Idempotency-Key': crypto.randomUUID() })

/** The header that names the version of an object that was seen; none where it may be new. */
export const match = (version?: number | null): Record<string, string> =>
  typeof version === 'number' ? { 'If-Match': `"r${version}"` } : {}

/** What goes into the query of every change of the estate: why, or only to see what it would do. */
export interface Asking {
  reason?: string
  preview?: boolean
  /** Make it although it fails a probe of the gate. */
  overrule?: boolean
  /** The probes that it carries, which are to prove it: keys of probe sets, or such as “block reeltide.example on ships”. */
  prove?: string[]
}

interface Planning<Variables, Result> {
  /** What is to be saved, as in “ruleset quiet-link”. */
  title: string
  /** Once it is made. */
  onSuccess?: (made: Result) => void
  /** Once what is shown has been read again. */
  onRead?: (made: Result) => void
  /** The same change kept as a draft, where it can be. */
  draft?: Variables
}

/** Mutations that change these subjects: all queries that concern them are read again. */
export function changing(subjects: Subject[]) {
  return function useChange<Variables, Result>(
    change: (variables: Variables, query: Asking) => Promise<Result>,
  ) {
    const queries = useQueryClient()
    const mutation = useMutation({
      mutationFn: ({ variables, query }: { variables: Variables; query: Asking }) => change(variables, query),
    })
    /** Changes that are made while what is shown is not read again yet. */
    const reading = ref(0)
    async function read() {
      reading.value += 1
      try {
        await readAgain(queries, subjects)
      } finally {
        reading.value -= 1
      }
    }
    /** Why not even its preview could be had. */
    const refused = shallowRef<Error | null>(null)

    /** Make the change at once: for what changes no policy. `onSuccess` once what is shown has been read again. */
    function mutate(
      variables: Variables,
      options: { onMade?: (made: Result) => void; onSuccess?: (made: Result) => void } = {},
    ) {
      mutation.mutate(
        { variables, query: {} },
        {
          onSuccess: (made) => {
            options.onMade?.(made)
            void read().then(() => options.onSuccess?.(made))
          },
        },
      )
    }
    /** Show what the change would do; it is made once that is confirmed. */
    function plan(variables: Variables, { title, onSuccess, onRead, draft }: Planning<Variables, Result>) {
      reset()
      planned.value = {
        title,
        mayBeDraft: draft !== undefined,
        async load(prove) {
          try {
            return (await change(variables, { preview: true, prove })) as unknown as Preview
          } catch (problem) {
            refused.value = problem as Error
            throw problem
          }
        },
        async commit({ asDraft, asking }) {
          const wanted = asDraft ? draft! : variables
          const made = await mutation.mutateAsync({ variables: wanted, query: asking })
          // who made it is not kept waiting until all that is shown has been read again
          onSuccess?.(made)
          void read().then(() => onRead?.(made))
        },
      }
    }
    function reset() {
      refused.value = null
      mutation.reset()
    }
    return {
      mutate,
      plan,
      reset,
      isPending: computed(() => mutation.isPending.value || reading.value > 0),
      data: mutation.data,
      error: computed(() => refused.value ?? mutation.error.value),
    }
  }
}
