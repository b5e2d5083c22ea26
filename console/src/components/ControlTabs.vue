<script setup lang="ts">
import SectionTabs from './SectionTabs.vue'

/** The pages about what is controlled. */
const TABS = [
  { name: 'categories', label: 'Web categories' },
  { name: 'taxonomy', label: 'Taxonomy' },
  { name: 'indicators', label: 'Indicators' },
  { name: 'sites', label: 'Site lists' },
  { name: 'startup', label: 'Startup' },
  { name: 'application-sets', label: 'Applications' },
  { name: 'services', label: 'Services' },
  { name: 'schedules', label: 'Schedules' },
  { name: 'feeds', label: 'Feeds' },
  { name: 'corrections', label: 'Corrections' },
]
</script>

<template><SectionTabs :tabs="TABS" label="Controls" /></template>
