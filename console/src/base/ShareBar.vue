<script setup lang="ts">
import { computed } from 'vue'

import type { Tone } from './tones'

/** How many are in which state, as a bar; the numbers stand beside it in words. */
const props = defineProps<{ parts: { key: string; number: number; tone: Tone }[] }>()
const all = computed(() => props.parts.reduce((sum, { number }) => sum + number, 0))
const share = (number: number) => `${all.value ? (100 * number) / all.value : 0}%`
</script>

<template>
  <div class="bar" aria-hidden="true">
    <span v-for="{ key, number, tone } in parts" :key="key" :class="tone" :style="{ width: share(number) }" />
  </div>
</template>

<style scoped>
.bar {
  display: flex;
  height: 0.75rem;
  border-radius: 0.4rem;
  overflow: hidden;
  background: var(--line-2);
}
.bar span {
  transition: width 0.4s;
}
.good {
  background: var(--allow);
}
.coming {
  background: var(--warn);
}
.bad {
  background: var(--block);
}
.away {
  background: var(--ink-3);
}
@media (prefers-reduced-motion: reduce) {
  .bar span {
    transition: none;
  }
}
</style>
