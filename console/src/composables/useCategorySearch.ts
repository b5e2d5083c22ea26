import { computed, type Ref } from 'vue'

import { useTaxonomy } from '../api/policy'

/** The taxonomy's families with those of their categories in whose name, key, family or definition a text stands. */
export function useCategorySearch(sought: Ref<string>) {
  const query = useTaxonomy()
  const families = computed(() => {
    const text = sought.value.trim().toLowerCase()
    return (query.data.value?.families ?? [])
      .map((family) => ({
        ...family,
        categories: family.categories.filter((one) =>
          `${family.name} ${family.key} ${one.key} ${one.name} ${one.definition}`
            .toLowerCase()
            .includes(text),
        ),
      }))
      .filter(({ categories }) => categories.length)
  })
  return { ...query, families }
}
