<script setup lang="ts">
import { ref } from 'vue'

import type { ToldChange } from '@/api/client'

/** Changes object by object: as sentences, and each as a difference of documents on request. */
defineProps<{ changes: ToldChange[] }>()
const opened = ref(new Set<string>())
const keyOf = (one: ToldChange) => `${one.noun} ${one.key}`
function toggle(key: string) {
  if (!opened.value.delete(key)) opened.value.add(key)
}
const sign = (line: string) =>
  line.startsWith('+') && !line.startsWith('+++')
    ? 'added'
    : line.startsWith('-') && !line.startsWith('---')
      ? 'gone'
      : line.startsWith('@@')
        ? 'dim'
        : ''
</script>

<template>
  <section v-for="change in changes" :key="keyOf(change)" class="change">
    <div class="head">
      <b>{{ change.sentence }}</b>
      <BButton
        variant="link"
        size="sm"
        :aria-expanded="opened.has(keyOf(change))"
        @click="toggle(keyOf(change))"
        >{{ opened.has(keyOf(change)) ? 'in words' : 'as a document'
        }}<span class="visually-hidden">: {{ change.sentence }}</span></BButton
      >
    </div>
    <pre v-if="opened.has(keyOf(change))"><span
      v-for="(line, number) in change.difference.split('\n')"
      :key="number"
      :class="sign(line)"
    >{{ line }}
</span></pre>
    <ul v-else-if="change.details.length" class="small sub">
      <li v-for="(detail, number) in change.details.slice(0, 30)" :key="number">{{ detail }}</li>
      <li v-if="change.details.length > 30" class="dim">and {{ change.details.length - 30 }} more</li>
    </ul>
  </section>
</template>

<style scoped>
.change + .change {
  border-top: 1px solid var(--line-2);
  margin-top: 0.5rem;
  padding-top: 0.5rem;
}
.head {
  display: flex;
  justify-content: space-between;
  gap: 0.8rem;
  align-items: baseline;
}
.head b {
  font-weight: 550;
  overflow-wrap: anywhere;
}
.head .btn {
  white-space: nowrap;
  padding: 0;
}
ul {
  margin: 0.2rem 0 0;
  padding-left: 1.1rem;
  overflow-wrap: anywhere;
}
pre {
  margin: 0.3rem 0 0;
  font-size: 0.75rem;
  background: var(--wash);
  border-radius: 0.3rem;
  padding: 0.5rem 0.7rem;
  overflow: auto;
  max-height: 24rem;
}
.added {
  color: var(--allow);
}
.gone {
  color: var(--block);
}
</style>
