<script setup lang="ts">
import type { Severity } from '@/findings/useFindings'

/** How urgent something is: mark, word and colour together. */
defineProps<{ severity: Severity }>()
</script>

<template>
  <span class="severity" :class="severity"
    ><Icon :name="severity === 'high' ? 'exclamationFill' : 'exclamation'" /> {{ severity }}</span
  >
</template>

<style scoped>
.severity {
  white-space: nowrap;
  font-weight: 600;
  font-size: 0.8125rem;
  width: 5rem;
  flex: none;
}
.high {
  color: var(--block);
}
.medium {
  color: var(--warn);
}
.low {
  color: var(--log);
}
</style>
