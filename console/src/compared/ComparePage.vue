<script setup lang="ts">
import { useRouteQuery } from '@vueuse/router'
import { computed, ref } from 'vue'

import { attempted } from '@/lib/tried'
import DifferingTable from './DifferingTable.vue'
import { useEarlierCompared, useGroupsCompared, useMachinesCompared, usePersonCompared } from './useCompared'
import VerdictLines from './VerdictLines.vue'

/** One attempt in several places: over all groups, on two machines, on a person's machines; or on one, now and earlier. */
const MODES = [
  { value: 'groups', text: 'all groups' },
  { value: 'machines', text: 'two machines' },
  { value: 'person', text: 'a person’s machines' },
  { value: 'earlier', text: 'a machine, now and earlier' },
]
const what = useRouteQuery<string>('what', '')
const first = useRouteQuery<string>('first', '')
const second = useRouteQuery<string>('second', '')
const person = useRouteQuery<string>('person', '')
const how = useRouteQuery<string>('how', first.value ? 'machines' : 'groups')
const then = ref<string | null | undefined>(null)
const calls = {
  groups: useGroupsCompared(),
  machines: useMachinesCompared(),
  person: usePersonCompared(),
  earlier: useEarlierCompared(),
}
const { data: byGroup } = calls.groups
const { data: both } = calls.machines
const { data: own } = calls.person
const { data: moments } = calls.earlier
const all = Object.values(calls)
const isPending = computed(() => all.some((call) => call.isPending.value))
const problem = computed(() => all.map((call) => call.error.value).find(Boolean))
const lacks = computed(() => {
  if (!what.value.trim()) return true
  if (how.value === 'machines') return !first.value.trim() || !second.value.trim()
  if (how.value === 'person') return !person.value.trim()
  return how.value === 'earlier' && (!first.value.trim() || !then.value)
})
const VERDICTS = ['block', 'warn', 'allow'] as const

function clear() {
  for (const call of all) call.reset()
}
function compare() {
  clear()
  if (lacks.value) return
  const body = { ...attempted(what.value), user: person.value.trim() || undefined }
  const [device, other] = [first.value.trim(), second.value.trim()]
  if (how.value === 'machines') calls.machines.mutate({ body, first: device, second: other })
  else if (how.value === 'person') calls.person.mutate(body)
  else if (how.value === 'earlier') calls.earlier.mutate({ body, device, then: then.value! })
  else calls.groups.mutate(body)
}
if (what.value) compare()
</script>

<template>
  <div class="page">
    <VerifyTabs />
    <PageHead title="Compare">
      <span>One visit or start in several places, and what of their differences decides.</span>
    </PageHead>
    <section class="panel mt-3">
      <form class="question" @submit.prevent="compare">
        <label class="address">
          <span class="form-label">Address or program</span>
          <BFormInput
            v-model="what"
            placeholder="https://lucky-reef.example/ or program:NAME"
            maxlength="8192"
            required
          />
        </label>
        <label class="how">
          <span class="form-label">Compare</span>
          <BFormSelect v-model="how" :options="MODES" @change="clear" />
        </label>
        <template v-if="how === 'machines' || how === 'earlier'">
          <MachineInput v-model="first" :label="how === 'earlier' ? 'Machine' : 'This machine'" />
        </template>
        <MachineInput v-if="how === 'machines'" v-model="second" label="and this one" />
        <MomentInput v-if="how === 'earlier'" v-model="then" label="Then" begin="1 hour ago" required />
        <label>
          <span class="form-label">Person</span>
          <BFormInput
            v-model="person"
            :placeholder="how === 'person' ? 'whose machines' : 'anybody'"
            maxlength="255"
          />
        </label>
        <BButton type="submit" variant="primary" :disabled="isPending || lacks">Compare</BButton>
      </form>
      <p v-if="problem" class="wrong" role="alert"><Icon name="exclamation" /> {{ problem.message }}</p>
    </section>
    <section v-if="byGroup" class="panel flush" aria-label="Over all groups">
      <BTableSimple hover caption-top>
        <caption class="visually-hidden">
          What machines would do, by group
        </caption>
        <BThead
          ><BTr
            ><BTh>Group</BTh><BTh>Machines</BTh
            ><BTh v-for="verdict in VERDICTS" :key="verdict">{{ verdict }}</BTh
            ><BTh>For instance</BTh></BTr
          ></BThead
        >
        <BTbody>
          <BTr v-for="one in byGroup.items" :key="one.group">
            <BTd
              ><RouterLink :to="{ name: 'groups', params: { group: one.group } }">{{
                one.group
              }}</RouterLink></BTd
            >
            <BTd>{{ one.devices.toLocaleString() }}</BTd>
            <BTd v-for="verdict in VERDICTS" :key="verdict">
              <template v-if="one.effective[verdict]"
                ><ActionMark :action="verdict" /> {{ one.effective[verdict].toLocaleString() }}</template
              >
              <span v-else class="dim">–</span>
            </BTd>
            <BTd>
              <span v-for="(name, verdict) in one.examples" :key="verdict" class="me-2">
                <RouterLink :to="{ name: 'device', params: { device: name } }">{{ name }}</RouterLink>
              </span>
            </BTd>
          </BTr>
        </BTbody>
      </BTableSimple>
    </section>
    <section v-if="both" class="panel" aria-label="On two machines">
      <p>
        <b>{{ both.sentence }}</b>
      </p>
      <VerdictLines :lines="[{ told: both.first }, { told: both.second }]" />
      <DifferingTable :differing="both.differing" :first="both.first.device" :second="both.second.device" />
    </section>
    <section v-if="own" class="panel" aria-label="On a person's machines">
      <p v-if="!own.items.length" class="sub mb-0">
        No machine tells that {{ own.user }} is signed in there.
      </p>
      <VerdictLines :lines="own.items.map((told) => ({ told }))" />
    </section>
    <section v-if="moments" class="panel" aria-label="Now and earlier">
      <p>
        <b>{{ moments.sentence }}</b>
      </p>
      <VerdictLines
        :lines="[
          { told: moments.now, label: `now, revision ${moments.revision}` },
          { told: moments.earlier, label: `then, revision ${moments.earlier_revision}` },
        ]"
      />
      <DifferingTable :differing="moments.differing" first="now" second="then" />
    </section>
  </div>
</template>

<style scoped>
/* what is read of the moment stands below the row, and does not lift its field out of it */
.question :deep(.moment) {
  position: relative;
  flex: 0 1 11rem;
}
.question :deep(.read) {
  position: absolute;
  top: 100%;
  white-space: nowrap;
}
.question:has(.moment) {
  padding-bottom: 1.3rem;
}
.how {
  min-width: 14.5rem;
}
.wrong {
  color: var(--block);
  margin: 0.7rem 0 0;
}
</style>
