import { createSharedComposable, useNow } from '@vueuse/core'
import { computed, toValue, type MaybeRefOrGetter } from 'vue'

import { span } from '@/lib/words'

/** One clock for all of a page: what is said of moments goes on every few seconds. */
const useSharedNow = createSharedComposable(() => useNow({ interval: 5000 }))

/** How long ago a moment is, as people say it: “4 min ago”. */
export function useAgo(at: MaybeRefOrGetter<string | null | undefined>) {
  const now = useSharedNow()
  return computed(() => {
    const moment = toValue(at)
    if (!moment) return 'never'
    const seconds = Math.max(0, (now.value.getTime() - new Date(moment).getTime()) / 1000)
    return seconds < 10 ? 'just now' : `${span(seconds)} ago`
  })
}
