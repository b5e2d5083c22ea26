import { useQueryClient } from '@tanstack/vue-query'
import { onScopeDispose, ref } from 'vue'

/** What to read again when the service says that a subject has changed. */
const CONCERNS: Record<string, string[]> = {
  revision: [
    'rulesets',
    'assignments',
    'groups',
    'group-order',
    'revisions',
    'rollout',
    'devices',
    'device',
    'blocks',
    'readiness',
    'settings',
    'layer-modes',
    'coverage',
    'feeds',
    'corrections',
    'lookup',
    'indicators',
    'capacity',
  ],
  device: ['devices', 'device', 'rollout', 'blocks', 'groups', 'readiness', 'enrolment-codes'],
  activity: ['activity'],
  feed: [
    'worklist',
    'feeds',
    'generations',
    'category-index',
    'lookup',
    'indicators',
    'rulesets',
    'capacity',
  ],
}

/** Follow the live stream while the caller lives; `connected` says whether it is there. */
export function useLive() {
  const queries = useQueryClient()
  const connected = ref(true)
  const source = new EventSource('/api/v1/stream')
  source.addEventListener('open', () => (connected.value = true))
  source.addEventListener('error', () => (connected.value = false))
  source.addEventListener('changed', (event) => {
    const { subjects } = JSON.parse((event as MessageEvent<string>).data) as { subjects: string[] }
    const keys = new Set(subjects.flatMap((subject) => CONCERNS[subject] ?? []))
    for (const key of keys) void queries.invalidateQueries({ queryKey: [key] })
  })
  onScopeDispose(() => source.close())
  return { connected }
}
