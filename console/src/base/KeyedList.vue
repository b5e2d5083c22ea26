<script setup lang="ts" generic="One extends { key: string; name: string }">
import { computed, ref } from 'vue'

/** The objects of a page at its left, to search and to choose from. */
const props = defineProps<{
  items: One[]
  label: string
  route: string
  param: string
  current?: string
  small: (one: One) => string
  empty: string
}>()
const sought = ref('')
const listed = computed(() => {
  const text = sought.value.trim().toLowerCase()
  return props.items.filter((item) => !text || JSON.stringify(item).toLowerCase().includes(text))
})
</script>

<template>
  <nav class="panel flush list" :aria-label="label">
    <BFormInput
      v-model="sought"
      type="search"
      class="seek"
      :placeholder="`Find in ${label.toLowerCase()}`"
      :aria-label="`Find in ${label.toLowerCase()}`"
    />
    <RouterLink
      v-for="one in listed"
      :key="one.key"
      :to="{ name: route, params: { [param]: one.key } }"
      class="entry"
      :class="{ on: one.key === current }"
      :aria-current="one.key === current ? 'true' : undefined"
    >
      <span class="name">{{ one.name }}</span>
      <span class="small dim">{{ small(one) }}</span>
    </RouterLink>
    <p v-if="!listed.length" class="sub p-3 mb-0">{{ items.length ? 'Nothing matches.' : empty }}</p>
  </nav>
</template>

<style scoped>
.entry {
  display: block;
  padding: 0.4rem 0.9rem;
}
.name {
  display: block;
  font-weight: 550;
}
</style>
