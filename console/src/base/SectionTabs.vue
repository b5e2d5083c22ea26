<script setup lang="ts">
import { useRoute } from 'vue-router'

/** The pages of a section, as tabs over the page's head. */
interface Tab {
  name: string
  label: string
  params?: Record<string, string>
}
defineProps<{ tabs: Tab[]; label: string }>()
const route = useRoute()
const isOpen = (tab: Tab) =>
  route.name === tab.name &&
  Object.entries(tab.params ?? {}).every(([name, value]) => route.params[name] === value)
</script>

<template>
  <nav class="sections" :aria-label="label">
    <RouterLink
      v-for="tab in tabs"
      :key="tab.label"
      :to="{ name: tab.name, params: tab.params }"
      :class="{ on: isOpen(tab) }"
      :aria-current="isOpen(tab) ? 'page' : undefined"
      >{{ tab.label }}</RouterLink
    >
  </nav>
</template>

<style scoped>
.sections {
  display: flex;
  flex-wrap: wrap;
  gap: 0.1rem;
  margin: -0.35rem 0 0.7rem;
}
.sections a {
  padding: 0.2rem 0.55rem;
  border-radius: 1rem;
  color: var(--ink-2);
  font-weight: 500;
  text-decoration: none;
}
.sections a:hover {
  background: var(--wash);
}
.sections a.on {
  background: var(--brass-wash);
  color: var(--brass);
}
</style>
