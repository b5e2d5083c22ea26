<script setup lang="ts">
import { computed, ref } from 'vue'

import { counted } from '@/lib/words'
import { useCapacity } from './useIndicators'

/** How many indicators machines carry of how many they may, by origin, and when that is full. */
const { data } = useCapacity()
const cleaning = ref(false)
const share = (number: number) => `${Math.min(100, (100 * number) / (data.value?.capacity ?? 1))}%`
const close = computed(() => (data.value ? data.value.most / data.value.capacity > 0.8 : false))
</script>

<template>
  <section v-if="data" class="panel meter" aria-label="Capacity">
    <div class="bar" :class="{ close }" aria-hidden="true">
      <span class="hand" :style="{ width: share(data.by_hand) }" /><span
        class="fed"
        :style="{ width: share(data.by_feed) }"
      />
    </div>
    <p class="mb-0">
      {{ data.sentence }}
      <span class="dim"
        ><span class="key hand" aria-hidden="true" /> {{ data.by_hand.toLocaleString() }} by hand,
        <span class="key fed" aria-hidden="true" /> {{ data.by_feed.toLocaleString() }} from feeds, on
        {{ counted(data.devices, 'machine') }} in
        <template v-for="(group, place) in data.groups" :key="group"
          >{{ place ? ', ' : ''
          }}<RouterLink :to="{ name: 'groups', params: { group } }">{{ group }}</RouterLink></template
        >; {{ data.ending.toLocaleString() }} end within 30 days.</span
      >
      <BButton v-needs:author variant="link" class="p-0 ms-2 align-baseline" @click="cleaning = true"
        >Clean up…</BButton
      >
      <RouterLink :to="{ name: 'settings' }" class="ms-2">Bounds</RouterLink>
    </p>
    <CleanUpDialog v-model="cleaning" />
  </section>
</template>

<style scoped>
.meter {
  margin-top: 1rem;
}
.bar {
  display: flex;
  height: 0.6rem;
  border-radius: 0.3rem;
  overflow: hidden;
  background: var(--wash);
  border: 1px solid var(--line);
  margin-bottom: 0.5rem;
}
.bar.close {
  border-color: var(--block);
}
.hand {
  background: var(--brass-2);
}
.fed {
  background: var(--log);
}
.key {
  display: inline-block;
  width: 0.7rem;
  height: 0.7rem;
  border-radius: 0.2rem;
}
</style>
