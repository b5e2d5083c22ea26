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
  <section v-for="one in changes" :key="keyOf(one)" class="change">
    <div class="head">
      <b>{{ one.sentence }}</b>
      <BButton variant="link" size="sm" :aria-expanded="opened.has(keyOf(one))" @click="toggle(keyOf(one))"
        >{{ opened.has(keyOf(one)) ? 'in words' : 'as a document'
        }}<span class="visually-hidden">: {{ one.sentence }}</span></BButton
      >
    </div>
    <pre v-if="opened.has(keyOf(one))"><span
      v-for="(line, number) in one.difference.split('\n')"
      :key="number"
      :class="sign(line)"
    >{{ line }}
</span></pre>
    <ul v-else-if="one.details.length" class="small sub">
      <li v-for="(detail, number) in one.details.slice(0, 30)" :key="number">{{ detail }}</li>
      <li v-if="one.details.length > 30" class="dim">and {{ one.details.length - 30 }} more</li>
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
