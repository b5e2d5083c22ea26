<script setup lang="ts">
import type { Activity } from '@/api/client'

/** A program that somebody started, and from which. */
const props = defineProps<{
  start: NonNullable<Activity['start']>
  parent?: string | null
  running?: Activity['running']
}>()
const named = [props.start.product ?? props.start.file ?? props.start.path, props.start.version]
  .filter(Boolean)
  .join(' ')
</script>

<template>
  <span :title="start.path ?? undefined">{{ named }}</span>
  <div v-if="parent" class="dim small">from {{ parent }}</div>
  <div v-if="running" class="dim small">
    {{ running === 'ended' ? 'ran already, and was ended' : 'ran already' }}
  </div>
</template>
