<script setup lang="ts">
import type { Schemas } from '@/api/client'

/** The proof of a change: what its probes came to before it, and come to since. */
defineProps<{ proof: Schemas['Proof'] }>()
const MARKS = {
  holds: { tone: 'good', icon: 'check', state: 'proved' },
  waiting: { tone: 'coming', icon: 'clock', state: 'being proved' },
  ended: { tone: 'bad', icon: 'exclamationFill', state: 'not proved' },
} as const
</script>

<template>
  <section class="proof" aria-label="Its proof">
    <p class="mb-1">
      <StateMark v-bind="MARKS[proof.state]" /> <b>{{ proof.sentence }}</b>
      <span class="small dim">
        Tried <MomentText :at="proof.at" /> before it<template v-if="proof.tried_at"
          >, and last <MomentText :at="proof.tried_at" /></template
        >.</span
      >
    </p>
    <ul class="small mb-0">
      <li v-for="(one, place) in proof.probes" :key="place">
        <ActionMark :action="one.before.expected" /> <code>{{ one.before.tried }}</code> {{ one.sentence }}
        <span v-if="one.since" class="dim">Since <MomentText :at="one.since" />.</span>
      </li>
    </ul>
  </section>
</template>

<style scoped>
.proof {
  border-left: 3px solid var(--brass);
  padding: 0.3rem 0.8rem;
  margin-bottom: 0.8rem;
}
ul {
  list-style: none;
  margin: 0;
  padding: 0;
}
</style>
