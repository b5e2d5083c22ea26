import type { Ref } from 'vue'

import { Problem } from '@/api/client'

interface Put<Body> {
  plan(
    change: { body: Body; version: number },
    options: { title: string; onSuccess: (made: { version: number }) => void; onRead: () => void },
  ): void
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
  /** What was saved from here last: who writes on before that has been read again is in nobody's way. */
  let own = 0
  function save(version = Math.max(draft.version(), own)) {
    const body = draft.body()
    const sent = JSON.stringify(body)
    const onSuccess = (made: { version: number }) => (own = made.version)
    const onRead = () =>
      setTimeout(() => {
        // what was saved comes back in its usual form, unless somebody has written on meanwhile
        if (JSON.stringify(draft.body()) === sent) draft.reset()
      })
    put.plan({ body, version }, { title: title(), onSuccess, onRead })
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
