<script setup lang="ts">
/** The pages of a section, as tabs over the page's head. */
defineProps<{ tabs: { name: string; label: string }[]; label: string }>()
</script>

<template>
  <nav class="sections" :aria-label="label">
    <RouterLink
      v-for="tab in tabs"
      :key="tab.name"
      :to="{ name: tab.name }"
      :class="{ on: $route.name === tab.name }"
      :aria-current="$route.name === tab.name ? 'page' : undefined"
      >{{ tab.label }}</RouterLink
    >
  </nav>
</template>

<style scoped>
.sections {
  display: flex;
  gap: 0.25rem;
  margin: -0.35rem 0 0.7rem;
}
.sections a {
  padding: 0.2rem 0.7rem;
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
