<script setup lang="ts">
import type { FoundIndicator } from '@/indicators/useIndicators'
import { broughtBy } from '@/lib/words'

/** A rule that a search found: what it does, to what, in which ruleset, and who wrote it. */
defineProps<{ found: FoundIndicator }>()
</script>

<template>
  <div class="found" :class="{ ended: found.ended }">
    <ActionMark :action="found.rule.action" />
    <code>{{ found.selector }}</code>
    <RouterLink :to="{ name: 'indicators', params: { ruleset: found.ruleset } }" class="small">{{
      found.ruleset
    }}</RouterLink>
    <span class="small dim">{{ broughtBy(found) }}<template v-if="found.ended">, has ended</template></span>
  </div>
</template>

<style scoped>
.found {
  display: flex;
  flex-wrap: wrap;
  gap: 0.1rem 0.6rem;
  align-items: baseline;
}
.found code {
  overflow-wrap: anywhere;
}
.ended {
  color: var(--ink-3);
}
</style>
