<script setup lang="ts">
/** The pages about what is meant, what machines would do, and why. */
const TABS = [
  { name: 'findings', label: 'Findings' },
  { name: 'runs', label: 'Runs' },
  { name: 'probe-sets', label: 'Probe sets' },
  { name: 'why', label: 'Why?' },
  { name: 'compare', label: 'Compare' },
  { name: 'evidence', label: 'Evidence' },
]
</script>

<template><SectionTabs :tabs="TABS" label="Verify" /></template>
