<script setup lang="ts">
import { computed } from 'vue'

import { targetText } from '@/rulesets/kinds'
import CauseMachines from './CauseMachines.vue'
import type { ProbeResult, Run } from './useRuns'

/** What came of each probe of a run: what fails first, each with its causes and their machines. */
const props = defineProps<{ run: Run }>()
const failed = (one: ProbeResult) => one.devices - one.passed
const results = computed(() =>
  [...(props.run.results ?? [])].sort(
    (one, other) =>
      Number(!failed(one)) - Number(!failed(other)) || Number(!one.devices) - Number(!other.devices),
  ),
)
</script>

<template>
  <section class="panel" aria-label="What came of it">
    <template v-if="run.state === 'running'">
      <p class="mb-2"><b>Under way</b></p>
      <BProgress :value="(run.done ?? 0) * 100" :max="100" height="0.5rem" aria-label="How far it is" />
    </template>
    <template v-else>
      <p class="sentence">
        <b>{{ run.sentence }}</b>
      </p>
      <p class="small dim">
        Predicted at revision {{ run.revision
        }}<template v-if="run.on?.length">, only on {{ run.on.map(targetText).join(', ') }}</template
        ><template v-if="run.seconds != null">; it took {{ run.seconds.toFixed(1) }} s</template>.
      </p>
    </template>
    <ol class="results">
      <li v-for="one in results" :key="`${one.set}/${one.number}`" :class="{ failed: failed(one) }">
        <div class="head">
          <ActionMark :action="one.expected" />
          <code class="tried">{{ one.tried }}</code>
          <StateMark v-if="failed(one)" tone="bad" icon="exclamationFill" state="fails" />
          <StateMark v-else-if="one.devices" tone="good" icon="check" state="holds" />
          <StateMark v-else tone="away" icon="dash" state="nowhere" />
        </div>
        <div class="small">
          <span class="dim"
            >{{ one.set }} {{ one.number }}<template v-if="one.name">: {{ one.name }}</template
            >.</span
          >
          {{ one.sentence }}
        </div>
        <ShareBar
          v-if="one.devices && failed(one)"
          class="bar"
          :parts="[
            { key: 'passed', number: one.passed, tone: 'good' },
            { key: 'failed', number: failed(one), tone: 'bad' },
          ]"
        />
        <CauseMachines
          v-for="cause in one.causes"
          :key="cause.code + cause.remedy"
          :run="run"
          :result="one"
          :cause="cause"
        />
      </li>
    </ol>
  </section>
</template>

<style scoped>
.sentence {
  margin: 0 0 0.1rem;
}
.results {
  list-style: none;
  margin: 0.6rem 0 0;
  padding: 0;
}
.results > li {
  border-top: 1px solid var(--line-2);
  padding: 0.6rem 0;
}
.head {
  display: flex;
  gap: 0.6rem;
  align-items: baseline;
}
.tried {
  overflow-wrap: anywhere;
  flex: 1;
}
.bar {
  margin: 0.3rem 0;
}
</style>
