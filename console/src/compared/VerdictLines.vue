<script setup lang="ts">
import type { MachineVerdict } from './useCompared'

/** What machines would do about an attempt, one line each: the machine, or what is said of it in its place. */
defineProps<{ lines: { told: MachineVerdict; label?: string }[] }>()
</script>

<template>
  <div v-for="({ told, label }, place) in lines" :key="place" class="line">
    <span v-if="label">{{ label }}</span>
    <RouterLink v-else :to="{ name: 'device', params: { device: told.device } }">{{
      told.device
    }}</RouterLink>
    <span>intended <ActionMark :action="told.intended" /></span>
    <span>effective <ActionMark :action="told.effective" /></span>
    <span>{{ told.why }}</span>
  </div>
</template>

<style scoped>
.line {
  display: grid;
  grid-template-columns: 13rem 9rem 9rem minmax(0, 1fr);
  gap: 0.6rem;
  padding: 0.35rem 0;
  border-top: 1px solid var(--line-2);
}
</style>
