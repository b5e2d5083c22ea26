<script setup lang="ts">
/** When something was last used, and from which address; `never` stands where it was not. */
defineProps<{ at?: string | null; from?: string | null; never?: string }>()
</script>

<template>
  <RelativeTime v-if="at" :at="at" /><span v-else-if="never" class="dim">{{ never }}</span
  ><span v-if="from" class="small dim"> from {{ from }}</span>
</template>
