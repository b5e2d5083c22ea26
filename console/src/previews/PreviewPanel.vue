<script setup lang="ts">
import { computed } from 'vue'

import type { Preview } from '@/api/client'
import { counted, span } from '@/lib/words'

/** What a change would do: machines, verdicts, findings, where it will not hold, when it has taken hold. */
const props = defineProps<{ preview?: Preview }>()
const tightened = computed(() => (props.preview?.effects.stopped ?? 0) + (props.preview?.effects.warned ?? 0))
const hold = computed(() => {
  const most = props.preview?.taking_hold.most
  return most == null ? '–' : `~${most < 60 ? '1 min' : span(most)}`
})
</script>

<template>
  <div aria-live="polite">
    <WorkingNote v-if="!preview" />
    <div v-if="!preview" class="waiting" role="status">
      <span v-for="line in 6" :key="line" class="line" /><span class="visually-hidden">Looking ahead…</span>
    </div>
    <template v-else-if="!preview.changes.length">
      <p class="mb-0">This changes nothing.</p>
    </template>
    <template v-else>
      <p class="sub">{{ preview.summary }}. It would be revision {{ preview.revision + 1 }}.</p>
      <div class="big">
        <div>
          <b>{{ preview.devices.toLocaleString() }}</b><span class="sub"
            >of {{ counted(preview.fleet, 'machine') }} change</span
          >
        </div>
        <div>
          <b>{{ tightened }}</b><span class="sub">newly stopped or warned of</span>
        </div>
        <div>
          <b :class="{ free: preview.effects.released }">{{
            (preview.effects.released ?? 0) + (preview.effects.softened ?? 0)
          }}</b><span class="sub">released or softened</span>
        </div>
        <div>
          <b>{{ hold }}</b><span class="sub">until 9 of 10 hold it</span>
        </div>
      </div>
      <section v-if="preview.gate?.length" class="gate" aria-label="The gate">
        <p class="mb-1"><Icon name="exclamationFill" /> <b>The gate refuses it.</b></p>
        <ul class="mb-0">
          <li v-for="one in preview.gate" :key="`${one.set}/${one.number}`">{{ one.sentence }}</li>
        </ul>
      </section>
      <p v-for="loss in preview.losses" :key="loss" class="loss">
        <Icon name="exclamation" /> <b>{{ loss }}</b>
      </p>
      <VerdictTable v-if="preview.verdicts.length" :verdicts="preview.verdicts" />
      <p v-else class="sub">No verdict becomes another.</p>
      <div class="pair">
        <section v-if="preview.appearing.length || preview.settled.length" class="panel">
          <h3>Findings</h3>
          <ul>
            <li v-for="one in preview.appearing" :key="one.id" :class="one.severity">
              <Icon name="exclamation" label="appears" /> {{ one.sentence }}
            </li>
            <li v-for="one in preview.settled" :key="one.id" class="gone">
              <Icon name="check" /> <b>Settled</b> <span class="dim">{{ one.sentence }}</span>
            </li>
          </ul>
        </section>
        <section v-if="preview.hindrances.length" class="panel">
          <h3>Will not hold everywhere</h3>
          <ul>
            <li
              v-for="hindrance in preview.hindrances"
              :key="`${hindrance.code}${hindrance.layer}`"
              class="high"
            >
              <Icon name="exclamation" /> {{ hindrance.detail }}
              <span class="dim">as {{ hindrance.examples.slice(0, 3).join(', ') }}</span>
            </li>
          </ul>
        </section>
      </div>
      <p v-if="preview.devices" class="small dim mb-0">{{ preview.taking_hold.sentence }}</p>
    </template>
  </div>
</template>

<style scoped>
.gate {
  border-left: 3px solid var(--block);
  padding: 0.3rem 0.8rem;
  margin-bottom: 0.8rem;
}
.big {
  display: grid;
  grid-template-columns: repeat(4, 1fr);
  border: 1px solid var(--line);
  border-radius: var(--radius);
  margin-bottom: 1rem;
}
.big div {
  padding: 0.55rem 0.9rem;
  border-right: 1px solid var(--line);
}
.big div:last-child {
  border: 0;
}
.big b {
  display: block;
  font-size: 1.25rem;
  letter-spacing: -0.01em;
}
.free {
  color: var(--allow);
}
.loss {
  color: var(--warn);
}
.pair {
  margin-top: 0.8rem;
  display: grid;
  grid-template-columns: repeat(auto-fit, minmax(260px, 1fr));
  gap: 1rem;
}
.pair .panel {
  padding: 0.7rem 0.9rem;
  margin: 0 0 0.8rem;
}
h3 {
  font-size: 0.9375rem;
  font-weight: 600;
  margin: 0 0 0.3rem;
}
ul {
  list-style: none;
  margin: 0;
  padding: 0;
  font-size: 0.8125rem;
  max-height: 11rem;
  overflow: auto;
}
li + li {
  margin-top: 0.4rem;
}
.medium .icon,
.low .icon {
  color: var(--warn);
}
.high .icon {
  color: var(--block);
}
.gone .icon {
  color: var(--allow);
}
.waiting .line {
  display: block;
  height: 0.9rem;
  margin: 0.7rem 0;
  border-radius: 0.3rem;
  background: var(--line-2);
}
</style>
