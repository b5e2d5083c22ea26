<script setup lang="ts">
import { computed } from 'vue'

import { useSettings } from '@/settings/useSettings'

/** A moment by day and minute, on the clock of the estate's settings. */
const props = defineProps<{ at?: string | null }>()
const { data: settings } = useSettings()
const zone = computed(() => settings.value?.zone ?? 'UTC')
const words = computed(() => {
  if (!props.at) return ''
  // Swedish writes days as ISO 8601 does
  const form = new Intl.DateTimeFormat('sv-SE', {
    timeZone: zone.value,
    dateStyle: 'short',
    timeStyle: 'short',
  })
  return form.format(new Date(props.at))
})
</script>

<template>
  <time :datetime="at ?? undefined" :title="at ? `in ${zone}; ${at}` : undefined" class="text-nowrap">{{
    words
  }}</time>
</template>
