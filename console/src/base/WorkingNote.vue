<script setup lang="ts">
import { working } from '@/api/working'

/** How far the service is with what is waited for; nothing where it answers soon. */
</script>

<template>
  <div v-if="working" class="working">
    <p class="sub mb-0">
      {{ working.what }}: {{ working.done.toLocaleString() }} of {{ working.of.toLocaleString() }}
    </p>
    <BProgress :value="working.done" :max="working.of" height="6px" :aria-label="working.what" />
  </div>
</template>

<style scoped>
.working {
  display: grid;
  gap: 0.4rem;
  max-width: 26rem;
  margin-bottom: 1rem;
}
.working :deep(.progress) {
  --bs-progress-bg: var(--line);
  --bs-progress-bar-bg: var(--brass);
}
</style>
