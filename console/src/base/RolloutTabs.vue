<script setup lang="ts">
/** The pages about what was changed and how far it has got. */
const TABS = [
  { name: 'rollout', label: 'Roll-out' },
  { name: 'pushes', label: 'Pushes' },
  { name: 'history', label: 'History' },
]
</script>

<template><SectionTabs :tabs="TABS" label="Roll-out" /></template>
