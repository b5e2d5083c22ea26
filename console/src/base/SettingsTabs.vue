<script setup lang="ts">
/** The pages about the service itself: what holds for the estate, and who uses it. */
const TABS = [
  { name: 'settings', label: 'Settings' },
  { name: 'administrators', label: 'Administrators' },
  { name: 'access', label: 'Sessions and tokens' },
  { name: 'audit', label: 'Audit trail' },
]
</script>

<template><SectionTabs :tabs="TABS" label="Settings" /></template>
