<script setup lang="ts">
import { computed } from 'vue'

import { useAgo } from '@/lib/useAgo'
import type { BoardCell } from './useBoard'

/** One assignment as the board shows it: what it comes to, what is particular about it, and what machines saw of it. */
const props = defineProps<{ cell: BoardCell }>()
const odd = computed(() =>
  props.cell.observed ? props.cell.observed.machines - props.cell.observed.held : 0,
)
const ago = useAgo(() => props.cell.observed?.at)
const seen = computed(() =>
  props.cell.observed ? `Observed ${ago.value}: ${props.cell.observed.sentence}` : undefined,
)
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
    <span v-if="cell.observed" class="seen" :class="{ otherwise: odd }"
      ><Icon :name="odd ? 'exclamationFill' : 'eye'" :label="seen" class="m" />{{ cell.observed.held }}</span
    >
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
  opacity: 0.85;
}
.cell .dim {
  color: var(--ink-2);
}
.seen {
  display: inline-flex;
  gap: 0.1rem;
  align-items: center;
  font-size: 0.72rem;
  color: var(--ink-2);
}
.seen.otherwise,
.seen.otherwise .m {
  color: var(--block);
}
.m {
  font-size: 0.75rem;
  color: var(--ink-3);
}
</style>
