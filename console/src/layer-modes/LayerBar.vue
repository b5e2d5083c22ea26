<script setup lang="ts">
import { computed } from 'vue'

import type { LayerCount } from '@/api/client'
import { plain } from '@/lib/words'
import { LAYERS } from './layers'

/** How many machines really enforce a layer, and at what the others are lost; each part leads to its machines. */
const props = defineProps<{ count: LayerCount; scope?: Record<string, string | undefined> }>()
const words = computed(() => LAYERS.find(({ key }) => key === props.count.layer)!)
const share = (number: number) => `${props.count.meant ? (100 * number) / props.count.meant : 0}%`
const link = (code: string, layer?: string | null) => ({
  name: 'devices',
  query: { ...props.scope, blocker: code, layer: layer ?? undefined },
})
</script>

<template>
  <section class="layer" :aria-label="words.name">
    <h2>
      {{ words.name }}{{ ' ' }} <span class="number">{{ count.enforcing.toLocaleString() }}</span>{{ ' ' }}
      <span class="dim">of {{ count.meant.toLocaleString() }} enforce it</span>{{ ' ' }}
      <span v-if="count.not_meant" class="dim small"
        >· {{ count.not_meant.toLocaleString() }} are not meant to</span
      >
    </h2>
    <div class="bar" aria-hidden="true">
      <span class="good" :style="{ width: share(count.enforcing) }" />
      <span
        v-for="lost in count.lost"
        :key="lost.code"
        class="lost"
        :style="{ width: share(lost.devices) }"
      />
    </div>
    <p class="legend small">
      <span v-if="!count.lost.length && count.meant" class="dim">Every machine that is meant to does.</span>
      <RouterLink
        v-for="lost in count.lost"
        :key="lost.code"
        :to="link(lost.code, lost.layer)"
        :title="lost.detail"
        ><b>{{ lost.devices }}</b> {{ plain(lost.code) }}</RouterLink
      >
    </p>
  </section>
</template>

<style scoped>
.layer + .layer {
  margin-top: 1rem;
}
h2 {
  margin-bottom: 0.35rem;
}
h2 .dim {
  font-weight: 400;
}
.number {
  font-size: 1.25rem;
  margin-left: 0.5rem;
}
.bar {
  display: flex;
  gap: 1px;
  height: 0.6rem;
  border-radius: 0.3rem;
  overflow: hidden;
  background: var(--line-2);
}
.good {
  background: var(--allow);
}
.lost {
  background: var(--block);
  min-width: 3px;
}
.lost:nth-child(odd) {
  opacity: 0.72;
}
.legend {
  display: flex;
  flex-wrap: wrap;
  gap: 0.1rem 1.1rem;
  margin: 0.35rem 0 0;
}
.legend a {
  line-height: 24px;
}
</style>
