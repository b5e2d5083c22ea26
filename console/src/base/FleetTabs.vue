<script setup lang="ts">
/** The pages about the fleet. */
const TABS = [
  { name: 'devices', label: 'Machines' },
  { name: 'groups', label: 'Groups' },
  { name: 'restrictions', label: 'Restrictions' },
  { name: 'enrolment', label: 'Enrolment' },
  { name: 'layers', label: 'Layers' },
  { name: 'coverage', label: 'Coverage' },
]
</script>

<template><SectionTabs :tabs="TABS" label="Fleet" /></template>
