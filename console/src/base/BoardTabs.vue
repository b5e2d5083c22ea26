<script setup lang="ts">
/** The pages about what is put where. */
const TABS = [
  { name: 'board', label: 'The board' },
  { name: 'group-overlaps', label: 'How groups overlap' },
]
</script>

<template><SectionTabs :tabs="TABS" label="Assignments" /></template>
