<script setup lang="ts">
/** Tabs that live in the page's address. The first has the empty key. */
defineProps<{ tabs: { key: string; label: string }[]; current: string; label: string }>()
</script>

<template>
  <nav class="tabs" :aria-label="label">
    <RouterLink
      v-for="tab in tabs"
      :key="tab.key"
      :to="{ query: { ...$route.query, tab: tab.key || undefined } }"
      :class="{ on: tab.key === current }"
      :aria-current="tab.key === current ? 'page' : undefined"
      >{{ tab.label }}</RouterLink
    >
  </nav>
</template>

<style scoped>
.tabs {
  display: flex;
  gap: 1.2rem;
  border-bottom: 1px solid var(--line);
  margin-top: 0.8rem;
}
.tabs a {
  color: var(--ink-2);
  font-weight: 500;
  padding: 0.45rem 0;
  border-bottom: 2px solid transparent;
  margin-bottom: -1px;
  text-decoration: none;
}
.tabs a.on {
  color: var(--ink);
  border-color: var(--brass-2);
}
</style>
