import { computed, type Ref } from 'vue'

import { useTaxonomy } from './useTaxonomy'

/** Web categories by their keys. */
export function useCategories() {
  const { data: taxonomy } = useTaxonomy()
  const byKey = computed(
    () =>
      new Map(
        (taxonomy.value?.families ?? []).flatMap(({ categories }) => categories).map((one) => [one.key, one]),
      ),
  )
  const categoryOf = (key: string) => byKey.value.get(key)
  return { categoryOf, nameOf: (key: string) => categoryOf(key)?.name ?? key }
}

/** The taxonomy's families with those of their categories in whose name, key, family or definition a text stands. */
export function useCategorySearch(sought: Ref<string>) {
  const query = useTaxonomy()
  const families = computed(() => {
    const text = sought.value.trim().toLowerCase()
    return (query.data.value?.families ?? [])
      .map((family) => ({
        ...family,
        categories: family.categories.filter((category) =>
          `${family.name} ${family.key} ${category.key} ${category.name} ${category.definition}`
            .toLowerCase()
            .includes(text),
        ),
      }))
      .filter(({ categories }) => categories.length)
  })
  return { ...query, families }
}
