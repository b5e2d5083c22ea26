<script setup lang="ts">
import { computed } from 'vue'

import { useAgo } from '@/lib/useAgo'

/** A moment as people say it (“4 min ago”), with the exact one on hover. */
const props = defineProps<{ at?: string | null }>()
const exact = computed(() => (props.at ? new Date(props.at).toLocaleString() : ''))
const words = useAgo(() => props.at)
</script>

<template>
  <time :datetime="at ?? undefined" :title="exact" class="text-nowrap">{{ words }}</time>
</template>
