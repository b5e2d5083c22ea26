<script setup lang="ts">
import type { BoardCell } from './useBoard'

/** One assignment as the board shows it: what it comes to, and what is particular about it. */
defineProps<{ cell: BoardCell }>()
</script>

<template>
  <span class="cell" :class="{ idle: cell.state !== 'active' || cell.ended }" :title="cell.assignment">
    <ActionMark v-if="cell.action" :action="cell.action" bare />
    <span v-else class="chip">applies</span>
    <Icon v-if="cell.mandatory" name="nut" label="mandatory" class="m" />
    <Icon v-if="cell.schedule" name="clock" :label="`during ${cell.schedule}`" class="m" />
    <Icon v-if="cell.people" name="person" label="for some people" class="m" />
    <Icon v-if="cell.place && cell.place !== 'anywhere'" name="pin" :label="`only ${cell.place}`" class="m" />
    <Icon v-if="cell.exception" name="key" label="exception" class="m" />
    <span v-if="cell.ended" class="small dim">ended</span>
    <span v-else-if="cell.state !== 'active'" class="small dim">{{ cell.state }}</span>
  </span>
</template>

<style scoped>
.cell {
  display: inline-flex;
  gap: 0.2rem;
  align-items: center;
}
.idle > :not(span.small) {
  opacity: 0.75;
}
.cell .dim {
  color: var(--ink-2);
}
.m {
  font-size: 0.75rem;
  color: var(--ink-3);
}
</style>
