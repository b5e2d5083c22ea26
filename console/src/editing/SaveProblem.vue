<script setup lang="ts">
import { computed } from 'vue'

import { Problem } from '@/api/client'

/** Why saving failed. Where somebody else saved first: both versions side by side, and the choice between them. */
const props = defineProps<{ problem: Error | null | undefined; mine?: object }>()
defineEmits<{ take: []; keep: [] }>()
const conflict = computed(() => props.problem instanceof Problem && props.problem.status === 412)

type Fields = Record<string, unknown>
const theirs = computed(() => ((props.problem as Problem).extra.current ?? {}) as Fields)
const isEmpty = (value: unknown) =>
  value == null || value === false || (Array.isArray(value) && !value.length)
const differing = computed(() => {
  if (!conflict.value || !props.mine) return []
  const mine = props.mine as Fields
  return [...new Set([...Object.keys(theirs.value), ...Object.keys(mine)])].flatMap((name) => {
    const [one, other] = [theirs.value[name], mine[name]]
    if (JSON.stringify(one) === JSON.stringify(other) || (isEmpty(one) && isEmpty(other))) return []
    return [{ name: name.replace(/_/g, ' '), theirs: linesOf(one, other), mine: linesOf(other, one) }]
  })
})

/** A value line by line, with those that the other one has not. A list's elements stand one a line. */
function linesOf(value: unknown, other: unknown): { text: string; only: boolean }[] {
  const written = (one: unknown) => (typeof one === 'string' ? one : wordsOf(one))
  const lines = (one: unknown) => (Array.isArray(one) ? one : isEmpty(one) ? [] : [one]).map(written)
  const has = new Set(lines(other))
  return lines(value).map((text) => ({ text, only: !has.has(text) }))
}
function wordsOf(value: unknown): string {
  if (value === null || typeof value !== 'object') return String(value)
  return Object.entries(value as Fields)
    .filter(([, one]) => !isEmpty(one))
    .map(([name, one]) => `${name} ${typeof one === 'object' ? JSON.stringify(one) : String(one)}`)
    .join(', ')
}
</script>

<template>
  <div v-if="problem" class="wrong" role="alert">
    <p class="said"><Icon name="exclamation" /> {{ problem.message }}</p>
    <template v-if="conflict">
      <BTableSimple v-if="differing.length" small caption-top class="both">
        <caption class="visually-hidden">
          Where the two versions differ
        </caption>
        <BThead
          ><BTr
            ><BTh><span class="visually-hidden">Field</span></BTh
            ><BTh>Theirs</BTh><BTh>Yours</BTh></BTr
          ></BThead
        >
        <BTbody>
          <BTr v-for="row in differing" :key="row.name">
            <BTh scope="row">{{ row.name }}</BTh>
            <BTd v-for="side in [row.theirs, row.mine]" :key="side === row.theirs ? 'theirs' : 'mine'">
              <div v-for="line in side" :key="line.text" :class="{ only: line.only }">{{ line.text }}</div>
              <span v-if="!side.length" class="dim">–</span>
            </BTd>
          </BTr>
        </BTbody>
      </BTableSimple>
      <BButton variant="light" @click="$emit('take')">Take theirs</BButton>{{ ' ' }}
      <BButton variant="light" @click="$emit('keep')">Put mine over it</BButton>
    </template>
  </div>
</template>

<style scoped>
.wrong {
  margin-top: 0.6rem;
}
.said {
  color: var(--block);
  margin-bottom: 0.4rem;
}
.both {
  overflow-wrap: anywhere;
}
.only {
  background: var(--brass-wash);
}
</style>
