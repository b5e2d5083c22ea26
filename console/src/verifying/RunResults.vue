<script setup lang="ts">
import { computed, ref } from 'vue'

import { targetText } from '@/rulesets/kinds'
import CauseMachines from './CauseMachines.vue'
import { evidenceFile, evidencePage, useMakeEvidence } from './useObserved'
import type { ProbeResult, Run } from './useRuns'

/** What came of each probe of a run: what fails first, each with its causes and their machines. */
const props = defineProps<{ run: Run }>()
const failed = (one: ProbeResult) => one.devices - one.passed
const nameOf = (one: ProbeResult) => `${one.set}/${one.number}`
const shown = ref('')
const { mutate: sign, data: signed, isPending: signing, error: unsigned } = useMakeEvidence()
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
        {{ run.kind === 'observed' ? 'Observed' : 'Predicted' }} at revision {{ run.revision
        }}<template v-if="run.on?.length">, only on {{ run.on.map(targetText).join(', ') }}</template
        ><template v-if="run.seconds != null">; it took {{ run.seconds.toFixed(1) }} s</template>.
        <BButton
          v-if="run.state === 'done' && run.has_devices"
          v-needs:responder
          variant="link"
          size="sm"
          class="p-0 ms-2"
          :disabled="signing"
          @click="sign(run.id)"
          >Sign it as evidence</BButton
        >
        <template v-if="signed"
          ><a :href="evidencePage(signed.id)" target="_blank" rel="noopener" class="ms-2">Read it</a>
          <a :href="evidenceFile(signed.id)" download class="ms-2">Signed file</a></template
        >
        <span v-if="unsigned" class="wrong" role="alert"> {{ unsigned.message }}</span>
      </p>
    </template>
    <ol class="results">
      <li v-for="one in results" :key="`${one.set}/${one.number}`" :class="{ failed: failed(one) }">
        <div class="head">
          <ActionMark :action="one.expected" />
          <code class="tried">{{ one.tried }}</code>
          <span v-if="one.how" class="small dim">{{ one.how }}</span>
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
        <BButton
          v-if="run.kind === 'observed' && one.devices"
          variant="link"
          size="sm"
          class="p-0"
          :aria-expanded="shown === nameOf(one)"
          @click="shown = shown === nameOf(one) ? '' : nameOf(one)"
          >{{ shown === nameOf(one) ? 'Hide what they saw' : 'What each saw' }}</BButton
        >
        <ProbeSeen v-if="shown === nameOf(one)" :run="run.id" :result="one" />
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
.wrong {
  color: var(--block);
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
