<script setup lang="ts">
/** The pages about who uses the service. */
const TABS = [
  { name: 'administrators', label: 'Administrators' },
  { name: 'access', label: 'Sessions and tokens' },
  { name: 'audit', label: 'Audit trail' },
]
</script>

<template><SectionTabs :tabs="TABS" label="Access" /></template>
