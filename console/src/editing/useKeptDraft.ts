import { useSessionStorage } from '@vueuse/core'
import { type Ref, watch } from 'vue'

/**
 * Keep what is being edited over a reload: under the object's name, with the version it began with, until it is
 * saved or undone. Gives what was kept before, where it was.
 */
export function useKeptDraft<Draft>(
  name: string,
  draft: () => Draft,
  changed: Readonly<Ref<boolean>>,
  version: () => number,
): { version: number; draft: Draft } | undefined {
  const kept = useSessionStorage<string>(`draft ${name}`, '')
  let before: { version: number; draft: Draft } | undefined
  try {
    before = kept.value ? JSON.parse(kept.value) : undefined
  } catch {
    kept.value = ''
  }
  watch(
    () => (changed.value ? JSON.stringify({ version: version(), draft: draft() }) : ''),
    (text) => (kept.value = text),
  )
  return before
}
