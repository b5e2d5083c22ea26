<script setup lang="ts">
import { computed } from 'vue'

import { counted } from '@/lib/words'
import { type ActivityCounts, VERDICTS } from './useActivity'

/** How many attempts there were day by day, or hour by hour: a bar for each, in parts by what came of them. */
const props = defineProps<{ counts: ActivityCounts }>()
const highest = computed(() => Math.max(1, ...props.counts.items.map((item) => item.attempts)))
const all = computed(() => props.counts.items.reduce((sum, item) => sum + item.attempts, 0))
const begin = (at: string) =>
  props.counts.per === 'day' ? at.slice(0, 10) : `${at.slice(0, 10)} ${at.slice(11, 16)}`
const told = (item: ActivityCounts['items'][number]) =>
  `${begin(item.at)}: ${counted(item.attempts, 'attempt')}` +
  VERDICTS.filter(({ verdict }) => item.verdicts[verdict])
    .map(({ verdict, word }) => `, ${item.verdicts[verdict]} ${word}`)
    .join('')
</script>

<template>
  <figure class="mb-3">
    <figcaption class="small sub">
      {{ counted(all, 'attempt') }} in the last {{ counts.items.length }} {{ counts.per }}s (UTC)<template
        v-if="all"
        >, at most {{ counted(highest, 'attempt') }} in one</template
      >
      <span v-for="{ verdict, word } in VERDICTS" :key="verdict" class="key">
        <span class="swatch" :class="verdict" aria-hidden="true" /> {{ word }}
      </span>
    </figcaption>
    <ol class="bars" :aria-label="`Attempts by the ${counts.per}`">
      <li v-for="item in counts.items" :key="item.at" :title="told(item)">
        <span class="visually-hidden">{{ told(item) }}</span>
        <span
          v-for="{ verdict } in VERDICTS"
          :key="verdict"
          class="part"
          :class="verdict"
          :style="{ height: `${((item.verdicts[verdict] ?? 0) / highest) * 100}%` }"
          aria-hidden="true"
        />
      </li>
    </ol>
    <p class="ends small dim" aria-hidden="true">
      <span>{{ begin(counts.items[0]!.at) }}</span>
      <span>{{ begin(counts.items.at(-1)!.at) }}</span>
    </p>
  </figure>
</template>

<style scoped>
.bars {
  display: flex;
  align-items: stretch;
  gap: 3px;
  height: 72px;
  margin: 0.3rem 0 0;
  padding: 0;
  list-style: none;
  border-bottom: 1px solid var(--line);
}
.bars li {
  flex: 1;
  display: flex;
  flex-direction: column-reverse;
}
.bars li:hover {
  background: var(--wash);
}
.ends {
  display: flex;
  justify-content: space-between;
  margin: 0.15rem 0 0;
}
.key {
  margin-left: 0.9rem;
}
.swatch {
  display: inline-block;
  width: 0.6rem;
  height: 0.6rem;
}
.part.block,
.swatch.block {
  background: var(--block);
}
.part.warn,
.swatch.warn {
  background: var(--warn);
}
.part.allow,
.swatch.allow {
  background: var(--ink-3);
}
</style>
