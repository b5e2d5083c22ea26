import { keepPreviousData, useInfiniteQuery } from '@tanstack/vue-query'
import { computed } from 'vue'

type Paged<Item> = { items: Item[]; next?: string | null; total: number }

/** A list, a page at a time. */
export function usePages<Item, Page extends Paged<Item>>(
  key: unknown[],
  ask: (cursor: string | undefined) => Promise<Page & Paged<Item>>,
) {
  const query = useInfiniteQuery({
    queryKey: key,
    queryFn: ({ pageParam }) => ask(pageParam ?? undefined),
    initialPageParam: null as string | null,
    getNextPageParam: (page) => page.next,
    placeholderData: keepPreviousData,
  })
  const items = computed(() => query.data.value?.pages.flatMap((page) => page.items))
  const total = computed(() => query.data.value?.pages[0]?.total)
  return { ...query, items, total }
}
