import type { Ref } from 'vue'

import { Problem } from '@/api/client'

interface Put<Body> {
  plan(change: { body: Body; version: number }, options: { title: string; onRead: () => void }): void
  reset(): void
  error: Ref<Error | null>
}

/** Save a draft, after a look at what that does, as of the version that it began with; where others saved first,
 * theirs or knowingly over theirs. */
export function useSaving<Body>(
  put: Put<Body>,
  draft: { body: () => Body; version: () => number; reset: () => void },
  title: () => string,
) {
  function save(version = draft.version()) {
    const body = draft.body()
    const sent = JSON.stringify(body)
    const onRead = () =>
      setTimeout(() => {
        // what was saved comes back in its usual form, unless somebody has written on meanwhile
        if (JSON.stringify(draft.body()) === sent) draft.reset()
      })
    put.plan({ body, version }, { title: title(), onRead })
  }
  return {
    save: () => save(),
    keepMine: () => save(Number((put.error.value as Problem).extra.version)),
    takeTheirs() {
      put.reset()
      draft.reset()
    },
  }
}
