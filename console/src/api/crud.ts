import { useQuery } from '@tanstack/vue-query'
import { computed, type MaybeRefOrGetter, toValue } from 'vue'

import { changing, key, match } from './changing'
import { api, told } from './client'

type Answer = { data?: unknown; error?: unknown; response: Response }
// every noun of the registry has the same calls: the path is made of its list's name
const call = api as unknown as Record<
  'GET' | 'POST' | 'PUT' | 'DELETE',
  (path: string, init?: object) => Promise<Answer>
>
const useChange = changing(['revision'])

/** All items of a list that comes in pages, or at once. */
async function everyPage<Item>(ask: (cursor?: string) => Promise<unknown>): Promise<Item[]> {
  const items: Item[] = []
  let cursor: string | undefined
  do {
    const page = (await ask(cursor)) as Item[] | { items: Item[]; next?: string | null }
    if (Array.isArray(page)) return page
    items.push(...page.items)
    cursor = page.next ?? undefined
  } while (cursor)
  return items
}

/** The key of the query for a noun's objects. */
export const listKey = (list: string) => ['estate', list]

/**
 * The calls of a noun that administrators author. `list` is its list in the estate document; `named` is the field that
 * names an object.
 */
export function crud<Shown extends { version?: number | null }, Body extends object>(
  list: string,
  named: keyof Body & keyof Shown & string = 'key' as keyof Body & keyof Shown & string,
) {
  const path = `/api/v1/${list.replaceAll('_', '-')}`
  const at = (own: string) => ({ [named]: own })

  return {
    /** All of them, fetched page by page: no answer is larger than a page. */
    useAll: (options: { refetchInterval?: number | ((found: Shown[] | undefined) => number) } = {}) => {
      const every = options.refetchInterval
      return useQuery({
        queryKey: listKey(list),
        queryFn: () => everyPage<Shown>((cursor) => told(call.GET(path, { params: { query: { cursor } } }))),
        refetchInterval: typeof every === 'function' ? (query) => every(query.state.data) : every,
      })
    },
    /** Those that are asked for. */
    useSome: (asked: MaybeRefOrGetter<Record<string, string>>) =>
      useQuery({
        queryKey: [...listKey(list), 'asked', computed(() => toValue(asked))],
        queryFn: () =>
          everyPage<Shown>((cursor) =>
            told(call.GET(path, { params: { query: { ...toValue(asked), cursor } } })),
          ),
      }),
    /** One of them. */
    useOne: (own: MaybeRefOrGetter<string>, enabled: MaybeRefOrGetter<boolean> = true) =>
      useQuery({
        queryKey: [...listKey(list), computed(() => toValue(own))],
        queryFn: () =>
          told(call.GET(`${path}/{${named}}`, { params: { path: at(toValue(own)) } })) as Promise<Shown>,
        enabled,
      }),
    /** Make one. */
    useCreate: () =>
      useChange(
        (body: Body, query) =>
          told(call.POST(path, { params: { query }, body, headers: key() })) as Promise<Shown>,
      ),
    /** Change one as it was seen at a version; without one, where it may be new. */
    usePut: () =>
      useChange(
        ({ body, version }: { body: Body; version?: number | null }, query) =>
          told(
            call.PUT(`${path}/{${named}}`, {
              params: { path: at(String(body[named])), query },
              body,
              headers: match(version),
            }),
          ) as Promise<Shown>,
      ),
    /** Remove one as it was seen. */
    useRemove: () =>
      useChange((one: { [name: string]: unknown; version?: number | null }, query) =>
        told(
          call.DELETE(`${path}/{${named}}`, {
            params: { path: at(String(one[named])), query },
            headers: match(one.version),
          }),
        ),
      ),
  }
}
