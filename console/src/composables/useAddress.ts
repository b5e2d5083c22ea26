import { computed, type WritableComputedRef } from 'vue'
import { useRoute, useRouter } from 'vue-router'

/** A value that lives in the page's address, so that it survives a reload and can be sent to somebody. */
export function useAddress(name: string): WritableComputedRef<string> {
  const route = useRoute()
  const router = useRouter()
  return computed({
    get: () => String(route.query[name] ?? ''),
    set: (value) => void router.replace({ query: { ...route.query, [name]: value || undefined } }),
  })
}
