<script setup lang="ts">
/** A person by the name that machines report; nobody where none was. */
defineProps<{ name?: string | null }>()
</script>

<template>
  <span v-if="name" class="person"><Icon name="person" class="dim" /> {{ name }}</span>
  <span v-else class="dim">–</span>
</template>

<style scoped>
.person {
  white-space: nowrap;
}
</style>
