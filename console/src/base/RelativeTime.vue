<script setup lang="ts">
import { useNow } from '@vueuse/core'
import { computed } from 'vue'

import { span } from '@/lib/words'

/** A moment as people say it (“4 min ago”), with the exact one on hover. */
const props = defineProps<{ at?: string | null }>()
const now = useNow({ interval: 5000 })

const exact = computed(() => (props.at ? new Date(props.at).toLocaleString() : ''))
const words = computed(() => {
  if (!props.at) return 'never'
  const seconds = Math.max(0, (now.value.getTime() - new Date(props.at).getTime()) / 1000)
  if (seconds < 10) return 'just now'
  return `${span(seconds)} ago`
})
</script>

<template>
  <time :datetime="at ?? undefined" :title="exact" class="text-nowrap">{{ words }}</time>
</template>
