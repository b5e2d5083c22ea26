<script setup lang="ts">
import type { AuthoringWarning } from '@/api/client'

/** What should be known of what is being written; a stronger or likelier form can be taken at once. */
defineProps<{ warnings: AuthoringWarning[] }>()
defineEmits<{ take: [warning: AuthoringWarning] }>()
</script>

<template>
  <ul v-if="warnings.length" class="warnings small" aria-label="What to know of it" aria-live="polite">
    <li v-for="(warning, number) in warnings.slice(0, 6)" :key="number">
      <Icon name="exclamation" />
      <span
        >{{ warning.sentence }}
        <BButton v-if="warning.instead" variant="link" size="sm" @click="$emit('take', warning)"
          >Take {{ warning.instead }}</BButton
        ></span
      >
    </li>
    <li v-if="warnings.length > 6" class="dim">and {{ warnings.length - 6 }} more</li>
  </ul>
</template>

<style scoped>
.warnings {
  list-style: none;
  margin: 0.6rem 0 0;
  padding: 0;
}
li {
  display: flex;
  gap: 0.4rem;
  align-items: baseline;
}
.icon {
  color: var(--warn);
}
.btn {
  padding: 0 0.3rem;
}
</style>
