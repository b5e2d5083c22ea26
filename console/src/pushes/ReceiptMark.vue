<script setup lang="ts">
import Icon, { type IconName } from '@/base/Icon.vue'
import type { Receipt } from './usePushes'

/** How far a machine is with a push. */
defineProps<{ state: Receipt['state'] }>()
const ICONS: Record<Receipt['state'], IconName> = {
  waiting: 'wifiOff',
  told: 'hourglass',
  fetched: 'hourglass',
  applied: 'check',
  failed: 'cross',
}
</script>

<template>
  <span class="state" :class="state"><Icon :name="ICONS[state]" /> {{ state }}</span>
</template>

<style scoped>
.state {
  font-weight: 550;
  white-space: nowrap;
}
.applied {
  color: var(--allow);
}
.told,
.fetched {
  color: var(--warn);
}
.failed {
  color: var(--block);
}
.waiting {
  color: var(--ink-3);
}
</style>
