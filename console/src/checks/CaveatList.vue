<script setup lang="ts">
import type { Caveat } from '@/api/client'

/** Why the effective verdict differs from, or is weaker than, the intended one, each with its remedy. */
defineProps<{ caveats: Caveat[] }>()
</script>

<template>
  <ul v-if="caveats.length" class="caveats small">
    <li v-for="caveat in caveats" :key="caveat.code">
      <Icon name="exclamation" class="sign" />
      <div>
        {{ caveat.detail }} <span class="dim">{{ caveat.remedy }}</span>
      </div>
    </li>
  </ul>
</template>

<style scoped>
.caveats {
  list-style: none;
  margin: 0.6rem 0 0;
  padding: 0;
}
li {
  display: flex;
  gap: 0.5rem;
  padding: 0.2rem 0;
}
.sign {
  color: var(--warn);
  margin-top: 0.2rem;
}
</style>
