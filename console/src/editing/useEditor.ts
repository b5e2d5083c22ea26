import { computed, reactive, type Ref, watch } from 'vue'

import { useKeptDraft } from './useKeptDraft'
import { useLeaveGuard } from './useLeaveGuard'
import { useSaving } from './useSaving'

interface Versioned {
  key: string
  version?: number | null
}

interface Change<Variables, Made> {
  plan(variables: Variables, options: { title: string; onRead?: (made: Made) => void }): void
  reset(): void
  error: Ref<Error | null>
  isPending: Ref<boolean>
}

/**
 * Something being edited in place: its draft, the body that comes of it, and whether that differs from what is saved;
 * how it is saved, with what others saved meanwhile; and how it is removed. The draft survives a reload, and nothing
 * is left by mistake.
 */
export function useEditor<
  Saved extends Versioned,
  Draft extends object,
  Body extends { key: string },
>(options: {
  noun: string
  /** What is saved; nothing where it is new. */
  saved: () => Saved | undefined
  draftOf: (saved: Saved | undefined) => Draft
  bodyOf: (draft: Draft, base: Saved | undefined) => Body
  /** What something new begins with. */
  begin?: Partial<Draft>
  /** The name under which the draft is kept, where the noun alone does not tell. */
  kept?: string
  calls: {
    useCreate: () => Change<Body, { key: string }>
    usePut: () => Change<{ body: Body; version: number }, unknown>
    useRemove: () => Change<{ key: string; version?: number | null }, unknown>
  }
  /** Called once it is saved, with the key of what was made, or with nothing once it is removed. */
  done: (key: string) => void
}) {
  const { noun, saved, draftOf, bodyOf, calls } = options
  const [create, put, remove] = [calls.useCreate(), calls.usePut(), calls.useRemove()]
  const plain = (value: unknown) => JSON.stringify(value)
  const bodyOfSaved = (base: Saved | undefined) => plain(bodyOf(draftOf(base), base))
  const state = reactive({ base: undefined as Saved | undefined, draft: draftOf(undefined), before: '' })

  function reset() {
    const base = saved()
    state.base = base as typeof state.base
    // a copy of its own: what is edited must not change what is shown as saved
    state.draft = JSON.parse(
      plain({ ...draftOf(base), ...(base ? {} : options.begin) }),
    ) as typeof state.draft
    state.before = bodyOfSaved(base)
  }
  reset()
  const draft = computed(() => state.draft as Draft)
  const body = computed(() => bodyOf(draft.value, state.base as Saved | undefined))
  const changed = computed(() => plain(body.value) !== state.before)
  const version = () => (state.base as Saved | undefined)?.version ?? 0
  const kept = useKeptDraft(
    `${options.kept ?? noun} ${saved()?.key ?? '+new'}`,
    () => draft.value,
    changed,
    version,
  )
  if (kept && !options.begin) {
    state.draft = kept.draft as typeof state.draft
    // saved meanwhile by somebody else: saving this will show both
    if (state.base) state.base = { ...state.base, version: kept.version }
  }
  // what others save shows at once, unless it would take away what is being edited
  watch(saved, () => {
    if (!changed.value) reset()
  })

  const title = () => `${noun} ${body.value.key}`
  const { save, keepMine, takeTheirs } = useSaving(put, { body: () => body.value, version, reset }, title)
  const leave = useLeaveGuard(changed, `Leave without saving this ${noun}?`)
  function make() {
    create.plan(body.value, {
      title: `new ${title()}`,
      onRead({ key }) {
        leave()
        options.done(key)
      },
    })
  }
  function drop() {
    const { key, version } = saved()!
    remove.plan(
      { key, version },
      {
        title: `remove ${noun} ${key}`,
        onRead() {
          leave()
          options.done('')
        },
      },
    )
  }
  return {
    noun,
    draft,
    body,
    changed,
    isNew: computed(() => !saved()),
    reset,
    submit: () => (saved() ? save() : make()),
    drop,
    keepMine,
    takeTheirs,
    problem: computed(() => create.error.value ?? put.error.value ?? remove.error.value),
    saving: computed(() => create.isPending.value || put.isPending.value),
  }
}
