<script setup lang="ts">
import type { AuthoringWarning } from '@/api/client'
import type { ruleReadingAnyOf0Values } from '@/api/schema'

export type Reading = (typeof ruleReadingAnyOf0Values)[number]

/**
 * What should be known of what is being written; a stronger or likelier form can be taken at once. Where a browser
 * cannot say something, it is asked what that browser is to get.
 */
defineProps<{ warnings: AuthoringWarning[]; asks?: (warning: AuthoringWarning) => boolean }>()
defineEmits<{ take: [warning: AuthoringWarning]; read: [warning: AuthoringWarning, reading: Reading] }>()
</script>

<template>
  <ul v-if="warnings.length" class="warnings small" aria-label="What to know of it" aria-live="polite">
    <li v-for="(warning, number) in warnings.slice(0, 6)" :key="number">
      <Icon name="exclamation" />
      <span
        >{{ warning.sentence }}
        <BButton v-if="warning.instead" variant="link" size="sm" @click="$emit('take', warning)"
          >Take {{ warning.instead }}</BButton
        ><template v-if="asks?.(warning)">
          <BButton variant="link" size="sm" @click="$emit('read', warning, 'stricter')"
            >Read it more strictly there</BButton
          >
          <BButton variant="link" size="sm" @click="$emit('read', warning, 'left-out')"
            >Leave it out there</BButton
          >
        </template></span
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
