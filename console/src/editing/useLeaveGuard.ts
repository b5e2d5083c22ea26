import { ref, type Ref } from 'vue'
import { onBeforeRouteLeave, onBeforeRouteUpdate } from 'vue-router'

/** Ask before a page with unsaved changes is left; a reload keeps them. Returns what to call once they are saved. */
export function useLeaveGuard(changed: Readonly<Ref<boolean>>, question: string): () => void {
  const saved = ref(false)
  const leaving = () => !changed.value || saved.value || window.confirm(question)
  onBeforeRouteLeave(leaving)
  onBeforeRouteUpdate(leaving)
  return () => (saved.value = true)
}
