<script setup lang="ts">
import { computed } from 'vue'

import type { Device } from '@/api/client'
import { useDevices } from '@/devices/useDevices'
import { useRevisions } from '@/revisions/useRevisions'
import { SHOWN } from './states'
import { useRollout } from './useRollout'

const STATES = ['current', 'waiting', 'failed', 'silent'] as const
const { data: counts, isPending, error, refetch } = useRollout()
const { data: newest } = useRevisions({ limit: 8 })
const revisions = computed(() => newest.value?.items)
const behind = (['failed', 'waiting', 'silent'] as const).map((rollout) => useDevices({ rollout, limit: 30 }))
const rows = computed<Device[]>(() => behind.flatMap((query) => query.items.value ?? []))
const all = computed(() => STATES.reduce((sum, state) => sum + (counts.value?.[state] ?? 0), 0))

function expected({ rollout }: Device) {
  if (!rollout) return ''
  if (rollout.state === 'failed') return rollout.problem
  if (rollout.state === 'silent') return 'when it comes back'
  if (rollout.expected_in == null) return 'at its next check-in'
  return rollout.expected_in < 60 ? 'within a minute' : `in about ${Math.round(rollout.expected_in / 60)} min`
}
</script>

<template>
  <div class="page">
    <RolloutTabs />
    <PageHead title="Roll-out">
      <template #actions>
        <PushButton
          :machines="{ waiting: true }"
          to="all that wait for something"
          :disabled="!counts || counts.current === all"
        />
      </template>
      <span v-if="counts">
        Revision <b>{{ counts.revision }}</b> is the newest. <b>{{ counts.current }}</b> of
        <b>{{ all }}</b> machines hold what they should.
      </span>
    </PageHead>
    <StateBox :loading="isPending" :error="error" :rows="4" @retry="refetch()">
      <section v-if="counts" class="panel mt-3" aria-label="Roll-out, counted">
        <ShareBar :parts="STATES.map((key) => ({ key, number: counts![key], tone: SHOWN[key].tone }))" />
        <div class="legend">
          <RouterLink
            v-for="state in STATES"
            :key="state"
            :to="{ name: 'devices', query: { rollout: state } }"
            class="count"
          >
            <b>{{ counts[state] }}</b> <RolloutMark :state="state" />
          </RouterLink>
        </div>
      </section>
      <div class="with-side">
        <section class="panel flush" aria-labelledby="behind">
          <h2 id="behind" class="inner">Machines that do not hold it yet</h2>
          <StateBox :loading="behind[1].isPending.value" :empty="rows.length === 0" :rows="3">
            <template #empty>
              <p class="mb-0"><b>Every machine holds what it should.</b></p>
              <p class="sub">Change a ruleset and watch it arrive here.</p>
            </template>
            <BTableSimple hover caption-top>
              <caption class="visually-hidden">
                Machines that do not hold their newest bundle
              </caption>
              <BThead>
                <BTr>
                  <BTh>Machine</BTh><BTh>State</BTh><BTh>Since</BTh><BTh>Holds</BTh><BTh>Should hold</BTh
                  ><BTh>Expected</BTh>
                </BTr>
              </BThead>
              <BTbody>
                <BTr v-for="device in rows" :key="device.id">
                  <BTd><MachineName :id="device.id" :hostname="device.hostname" /></BTd>
                  <BTd><RolloutMark :state="device.rollout!.state" /></BTd>
                  <BTd><RelativeTime :at="device.rollout!.since" /></BTd>
                  <BTd>{{ device.rollout!.revision ?? '–' }}</BTd>
                  <BTd>{{ device.rollout!.wanted_revision }}</BTd>
                  <BTd class="sub">{{ expected(device) }}</BTd>
                </BTr>
              </BTbody>
            </BTableSimple>
          </StateBox>
        </section>
        <section class="panel">
          <h2>Newest revisions</h2>
          <ol class="revisions">
            <li v-for="revision in revisions" :key="revision.number">
              <RouterLink
                :to="{ name: 'history', params: { number: revision.number } }"
                class="number"
                :aria-label="`Revision ${revision.number}`"
                >{{ revision.number }}</RouterLink
              >
              <div>
                {{ revision.summary }}
                <div class="small dim">
                  {{ revision.by }}, <RelativeTime :at="revision.at" /><template v-if="revision.devices"
                    >, {{ revision.devices }} {{ revision.devices === 1 ? 'machine' : 'machines' }}</template
                  >
                </div>
                <div v-if="revision.reason" class="small dim">“{{ revision.reason }}”</div>
              </div>
            </li>
          </ol>
        </section>
      </div>
    </StateBox>
  </div>
</template>

<style scoped>
.legend {
  display: flex;
  gap: 1.8rem;
  margin-top: 0.7rem;
}
.count {
  color: var(--ink);
}
.inner {
  padding: 0.9rem 1.1rem 0.2rem;
  margin: 0;
}
.revisions {
  list-style: none;
  padding: 0;
  margin: 0;
}
.revisions li {
  display: flex;
  gap: 0.7rem;
  padding: 0.35rem 0;
  border-bottom: 1px solid var(--line-2);
}
.revisions li:last-child {
  border: 0;
}
.number {
  color: var(--ink-3);
  min-width: 1.6rem;
  text-align: right;
}
</style>
