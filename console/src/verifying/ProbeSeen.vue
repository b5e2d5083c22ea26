<script setup lang="ts">
import { useSeen } from './useObserved'
import type { ProbeResult } from './useRuns'

/** What each machine saw of a probe in an observed run, a page at a time. */
const props = defineProps<{ run: number; result: ProbeResult }>()
const { items, isPending, error, hasNextPage, fetchNextPage, refetch } = useSeen(
  () => props.run,
  props.result.set,
  props.result.number,
)
</script>

<template>
  <StateBox :loading="isPending" :error="error" :rows="2" :empty="!items?.length" @retry="refetch()">
    <template #empty><p class="sub mb-0">What machines saw in this run is not kept any more.</p></template>
    <SeenTable :seen="items ?? []" by="machine" />
    <BButton v-if="hasNextPage" variant="light" size="sm" @click="fetchNextPage()">Show more</BButton>
  </StateBox>
</template>
