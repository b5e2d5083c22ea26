<script setup lang="ts">
import { useTimeoutFn } from '@vueuse/core'
import { watch } from 'vue'

import { refusal } from './needs'

/** What was tried and is not permitted, said for a while where it is seen and heard. */
const { start } = useTimeoutFn(() => (refusal.value = ''), 8000, { immediate: false })
watch(refusal, (sentence) => sentence && start())
</script>

<template>
  <div class="refusal" aria-live="assertive">
    <p v-if="refusal"><Icon name="slash" /> {{ refusal }}</p>
  </div>
</template>

<style scoped>
.refusal {
  position: fixed;
  inset: auto 0 1.25rem;
  display: grid;
  place-items: center;
  pointer-events: none;
  z-index: 2000;
}
p {
  margin: 0;
  padding: 0.6rem 1rem;
  border: 1px solid var(--line);
  border-radius: var(--radius);
  background: var(--card);
  box-shadow: 0 4px 18px var(--shadow);
}
</style>
