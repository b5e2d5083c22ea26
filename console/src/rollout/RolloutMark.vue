<script setup lang="ts">
import type { RolloutState } from '@/api/client'
import Icon, { type IconName } from '@/base/Icon.vue'

/** Where a machine stands with its newest bundle. */
defineProps<{ state: RolloutState['state'] }>()
const ICONS: Record<RolloutState['state'], IconName> = {
  current: 'check',
  waiting: 'hourglass',
  failed: 'cross',
  silent: 'wifiOff',
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
.current {
  color: var(--allow);
}
.waiting {
  color: var(--warn);
}
.failed {
  color: var(--block);
}
.silent {
  color: var(--ink-3);
}
</style>
