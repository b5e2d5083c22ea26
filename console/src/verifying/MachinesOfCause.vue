<script setup lang="ts">
import { type ProbeResult, useRunDevices } from './useRuns'

/** All machines on which a probe did not come out for a cause, a page at a time. */
const props = defineProps<{ run: number; result: ProbeResult; cause: string }>()
const { items, isPending, error, hasNextPage, fetchNextPage, refetch } = useRunDevices(
  () => props.run,
  () => props.result,
  () => props.cause,
)
</script>

<template>
  <StateBox :loading="isPending" :error="error" :rows="2" @retry="refetch()">
    <ul class="machines small">
      <li v-for="one in items" :key="one.id">
        <RouterLink :to="{ name: 'device', params: { device: one.id } }">{{ one.hostname }}</RouterLink>
      </li>
    </ul>
    <BButton v-if="hasNextPage" variant="light" size="sm" @click="fetchNextPage()">Show more</BButton>
  </StateBox>
</template>

<style scoped>
.machines {
  columns: 3;
  list-style: none;
  margin: 0.3rem 0;
  padding: 0;
}
</style>
