import { computed, type ComputedRef, type Ref } from 'vue'

import { useLeaveGuard } from './useLeaveGuard'
import { useSaving } from './useSaving'

interface Change<Variables, Options> {
  plan(variables: Variables, options: Options & { title: string }): void
  reset(): void
  error: Ref<Error | null>
  isPending: Ref<boolean>
}

/** How an editor saves: what is new is made, what is there is changed as it was seen, and nothing is left by mistake. */
export function useEditing<Body extends { key: string }>(
  create: Change<Body, { onSuccess: (made: { key: string }) => void }>,
  put: Change<{ body: Body; version: number }, { onSuccess: () => void }>,
  draft: {
    body: ComputedRef<Body>
    changed: Readonly<Ref<boolean>>
    version: () => number
    reset: () => void
  },
  noun: string,
  saved: (key: string) => void,
) {
  const title = () => `${noun} ${draft.body.value.key}`
  const { save, keepMine, takeTheirs } = useSaving(
    put,
    { body: () => draft.body.value, version: draft.version, reset: draft.reset },
    title,
  )
  const done = useLeaveGuard(draft.changed, `Leave without saving this ${noun}?`)
  function make() {
    create.plan(draft.body.value, {
      title: `new ${title()}`,
      onSuccess({ key }) {
        done()
        saved(key)
      },
    })
  }
  return {
    submit: (isNew: boolean) => (isNew ? make() : save()),
    keepMine,
    takeTheirs,
    problem: computed(() => create.error.value ?? put.error.value),
    saving: computed(() => create.isPending.value || put.isPending.value),
  }
}
