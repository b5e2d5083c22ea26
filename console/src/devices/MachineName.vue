<script setup lang="ts">
/** A machine by its hostname, leading to its page. */
defineProps<{ id: string; hostname: string }>()
</script>

<template>
  <RouterLink :to="{ name: 'device', params: { device: id } }" class="machine">{{ hostname }}</RouterLink>
</template>

<style scoped>
.machine {
  font-weight: 550;
  white-space: nowrap;
}
</style>
