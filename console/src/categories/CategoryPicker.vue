<script setup lang="ts">
import { ref } from 'vue'

import { useCategories, useCategorySearch } from './useCategories'

/** Choose web categories: those chosen at the top, all others below by family. */
defineProps<{ legend: string }>()
const chosen = defineModel<string[]>({ required: true })
const sought = ref('')
const { families } = useCategorySearch(sought)
const { nameOf } = useCategories()
/** What no entry can say: it is what a host without one is in. */
const DERIVED = 'uncategorised'
</script>

<template>
  <fieldset>
    <legend class="form-label">{{ legend }}</legend>
    <ul v-if="chosen.length" class="chosen">
      <li v-for="key in chosen" :key="key" class="chip">
        {{ nameOf(key) }}
        <BButton
          variant="link"
          class="p-0"
          :aria-label="`Remove ${nameOf(key)}`"
          @click="chosen = chosen.filter((one) => one !== key)"
          ><Icon name="cross"
        /></BButton>
      </li>
    </ul>
    <div class="list">
      <BFormInput
        v-model="sought"
        type="search"
        class="seek"
        placeholder="Find a category"
        aria-label="Find a category"
        @keydown.enter.prevent
      />
      <div class="families" tabindex="0" role="group" aria-label="All categories">
        <div v-for="family in families" :key="family.key">
          <p class="family">{{ family.name }}</p>
          <template v-for="category in family.categories" :key="category.key">
            <BFormCheckbox v-if="category.key !== DERIVED" v-model="chosen" :value="category.key"
              ><span :title="category.definition">{{ category.name }}</span></BFormCheckbox
            >
          </template>
        </div>
        <p v-if="!families.length" class="dim small">No category reads like that.</p>
      </div>
    </div>
  </fieldset>
</template>

<style scoped>
legend {
  font-size: inherit;
}
.chosen {
  display: flex;
  flex-wrap: wrap;
  gap: 0.35rem;
  list-style: none;
  margin: 0 0 0.5rem;
  padding: 0;
}
.list {
  border: 1px solid var(--line);
  border-radius: var(--radius);
  overflow: hidden;
}
.families {
  max-height: 11rem;
  overflow-y: auto;
  padding: 0.5rem 0.75rem;
  display: grid;
  grid-template-columns: 1fr 1fr;
  gap: 0.75rem;
}
.family {
  color: var(--ink-2);
  font-weight: 600;
  margin: 0;
}
</style>
