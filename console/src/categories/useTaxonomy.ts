import { useQuery } from '@tanstack/vue-query'

import { api, told } from '@/api/client'

export const useCategoryIndex = () =>
  useQuery({ queryKey: ['category-index'], queryFn: () => told(api.GET('/api/v1/category-index')) })

/** The web taxonomy; it changes with the program only. */
export function useTaxonomy() {
  return useQuery({
    queryKey: ['taxonomy'],
    queryFn: () => told(api.GET('/api/v1/taxonomy')),
    staleTime: Infinity,
  })
}
