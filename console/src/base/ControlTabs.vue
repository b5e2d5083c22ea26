<script setup lang="ts">
import { computed } from 'vue'

import { WITH_PAGES } from '@/nouns/nounPages'
import { useNouns } from '@/nouns/useNouns'

/** The pages about what is controlled; nouns that have none of their own are listed alike. */
const { data: nouns } = useNouns()
const OWN = [
  { name: 'categories', label: 'Web categories' },
  { name: 'taxonomy', label: 'Taxonomy' },
  { name: 'indicators', label: 'Indicators' },
  { name: 'sites', label: 'Site lists' },
  { name: 'address-lists', label: 'Address lists' },
  { name: 'startup', label: 'Startup' },
  { name: 'application-sets', label: 'Applications' },
  { name: 'catalogue', label: 'Catalogue' },
  { name: 'services', label: 'Services' },
  { name: 'schedules', label: 'Schedules' },
  { name: 'feeds', label: 'Feeds' },
  { name: 'corrections', label: 'Corrections' },
]
const tabs = computed(() => [
  ...OWN,
  ...(nouns.value ?? [])
    .filter(({ list }) => !WITH_PAGES.has(list))
    .map(({ list, plural }) => ({ name: 'objects', label: plural, params: { list } })),
])
</script>

<template><SectionTabs :tabs="tabs" label="Controls" /></template>
