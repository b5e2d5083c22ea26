import { computed, reactive, watch } from 'vue'

import { useKeptDraft } from './useKeptDraft'

interface Versioned {
  version: number
}

/**
 * Something being edited in place: what it was when the editing began, what it is now, and whether they differ. Under
 * a name it survives a reload.
 */
export function useDraft<Saved extends Versioned, Draft extends object>(
  saved: () => Saved | undefined,
  draftOf: (saved: Saved | undefined) => Draft,
  name: string,
) {
  const plain = (value: Draft) => JSON.stringify(value)
  const state = reactive({ base: undefined as Saved | undefined, draft: draftOf(undefined), before: '' })

  function reset() {
    state.base = saved() as typeof state.base
    // a copy of its own: what is edited must not change what is shown as saved
    state.draft = JSON.parse(plain(draftOf(saved()))) as typeof state.draft
    state.before = plain(state.draft as Draft)
  }
  reset()
  const draft = computed(() => state.draft as Draft)
  const changed = computed(() => plain(state.draft as Draft) !== state.before)
  const version = () => (state.base as Saved | undefined)?.version ?? 0
  const kept = useKeptDraft(name, () => draft.value, changed, version)
  if (kept) {
    state.draft = kept.draft as typeof state.draft
    // saved meanwhile by somebody else: saving this will show both
    if (state.base) state.base = { ...state.base, version: kept.version }
  }

  // what others save shows at once, unless it would take away what is being edited
  watch(saved, () => {
    if (!changed.value) reset()
  })
  return { draft, changed, reset, version }
}
