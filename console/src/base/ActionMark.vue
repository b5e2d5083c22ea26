<script setup lang="ts">
import { computed } from 'vue'

import type { Action } from '@/api/client'
import Icon, { type IconName } from './Icon.vue'

/** An action or verdict: mark, word and colour together. `bare` leaves the word to the hover and to screen readers. */
const props = defineProps<{ action: Action; bare?: boolean }>()
const ICONS: Record<Action, IconName> = { allow: 'doorOpen', warn: 'bell', block: 'slash', log: 'journal' }
const icon = computed(() => ICONS[props.action])
</script>

<template>
  <span class="action" :class="action">
    <Icon :name="icon" :label="bare ? action : undefined" /><template v-if="!bare">{{ action }}</template>
  </span>
</template>

<style scoped>
.action {
  display: inline-flex;
  align-items: center;
  gap: 0.3rem;
  font-weight: 600;
  font-size: 0.8125rem;
  border-radius: 0.3rem;
  padding: 0.05rem 0.4rem;
  white-space: nowrap;
}
.allow {
  color: var(--allow);
  background: var(--allow-wash);
}
.warn {
  color: var(--warn);
  background: var(--warn-wash);
}
.block {
  color: var(--block);
  background: var(--block-wash);
}
.log {
  color: var(--log);
  background: var(--log-wash);
}
</style>
