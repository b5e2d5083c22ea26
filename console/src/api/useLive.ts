import { useQueryClient } from '@tanstack/vue-query'
import { onScopeDispose, ref } from 'vue'

import { readAgain, readSettledAgain, type Subject } from './queries'

/** Follow the live stream while the caller lives; `connected` says whether it is there. */
export function useLive() {
  const queries = useQueryClient()
  const connected = ref(true)
  const source = new EventSource('/api/v1/stream')
  source.addEventListener('following', () => {
    connected.value = true
    void readSettledAgain(queries)
  })
  source.addEventListener('error', () => (connected.value = false))
  source.addEventListener('changed', (event) => {
    const { subjects } = JSON.parse((event as MessageEvent<string>).data) as { subjects: Subject[] }
    void readAgain(queries, subjects)
  })
  onScopeDispose(() => source.close())
  return { connected }
}
