<script setup lang="ts">
import type { IconName } from './Icon.vue'
import type { Tone } from './tones'

/** A state in its own word, with an icon, and a colour that says how it is to be looked at. */
defineProps<{ state: string; icon: IconName; tone: Tone }>()
</script>

<template>
  <span class="state" :class="tone"><Icon :name="icon" /> {{ state }}</span>
</template>

<style scoped>
.state {
  font-weight: 550;
  white-space: nowrap;
}
.good {
  color: var(--allow);
}
.coming {
  color: var(--warn);
}
.bad {
  color: var(--block);
}
.away {
  color: var(--ink-3);
}
</style>
