import { useQuery } from '@tanstack/vue-query'
import { computed } from 'vue'

import { api, told } from '@/api/client'

export const useCategoryIndex = () =>
  useQuery({ queryKey: ['category-index'], queryFn: () => told(api.GET('/api/v1/category-index')) })

/** The usual grounds on which categories are stopped, and rulesets stand; organisations have others too. */
export function useGrounds() {
  const { data: taxonomy } = useTaxonomy()
  return computed(() => [
    ...new Set(
      (taxonomy.value?.families ?? []).flatMap(({ categories }) =>
        categories.flatMap(({ ground }) => ground ?? []),
      ),
    ),
  ])
}

/** The web taxonomy; it changes with the program only. */
export function useTaxonomy() {
  return useQuery({
    queryKey: ['taxonomy'],
    queryFn: () => told(api.GET('/api/v1/taxonomy')),
    staleTime: Infinity,
  })
}
