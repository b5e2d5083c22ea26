import { useQueryClient } from '@tanstack/vue-query'
import { useEventSource } from '@vueuse/core'
import { computed, watch } from 'vue'

import { readAgain, readSettledAgain, type Subject } from './queries'

/** Follow the live stream while the caller lives; `connected` says whether it is there. */
export function useLive() {
  const queries = useQueryClient()
  const { data, event, status } = useEventSource('/api/v1/stream', ['following', 'changed'], {
    // a browser gives up by itself where it is answered with an error, as by a proxy in front of a service that restarts
    autoReconnect: { delay: 3_000 },
    serializer: { read: (text) => JSON.parse(text ?? '{}') as { subjects?: Subject[] } },
  })
  // at once, as of two events at a time the first is gone after that
  watch(
    data,
    (told) => {
      if (event.value === 'following') void readSettledAgain(queries)
      else void readAgain(queries, told?.subjects ?? [])
    },
    { flush: 'sync' },
  )
  const connected = computed(() => status.value !== 'CLOSED')
  return { connected }
}
