<script setup lang="ts">
import { refDebounced } from '@vueuse/core'
import { useRouteQuery } from '@vueuse/router'
import { computed } from 'vue'

import { useDevices } from '@/devices/useDevices'
import { useGroupsCompared, useMachinesCompared } from './useCompared'

/** One address in several places: over all groups, or on two machines with what of their differences decides. */
const what = useRouteQuery<string>('what', '')
const first = useRouteQuery<string>('first', '')
const second = useRouteQuery<string>('second', '')
const person = useRouteQuery<string>('person', '')
const typed = computed(() => second.value || first.value)
const sought = refDebounced(typed, 200)
const { items: found } = useDevices(computed(() => ({ search: sought.value.trim() || undefined, limit: 8 })))
const { mutate: compareGroups, data: byGroup, ...groups } = useGroupsCompared()
const { mutate: compareMachines, data: both, ...machines } = useMachinesCompared()
const isPending = computed(() => groups.isPending.value || machines.isPending.value)
const problem = computed(() => groups.error.value ?? machines.error.value)
const halves = computed(() => !!first.value.trim() !== !!second.value.trim())
const VERDICTS = ['block', 'warn', 'allow'] as const

function compare() {
  groups.reset()
  machines.reset()
  const body = { url: what.value.trim(), user: person.value.trim() || undefined }
  if (!body.url || halves.value) return
  if (first.value.trim()) compareMachines({ body, first: first.value.trim(), second: second.value.trim() })
  else compareGroups(body)
}
if (what.value) compare()
</script>

<template>
  <div class="page">
    <VerifyTabs />
    <PageHead title="Compare">
      <span>One address over all groups; or on two machines, with what of their differences decides.</span>
    </PageHead>
    <section class="panel mt-3">
      <form class="question" @submit.prevent="compare">
        <label class="address">
          <span class="form-label">Address</span>
          <BFormInput v-model="what" placeholder="https://lucky-reef.example/" maxlength="8192" required />
        </label>
        <label>
          <span class="form-label">Person</span>
          <BFormInput v-model="person" placeholder="anybody" maxlength="255" />
        </label>
        <label>
          <span class="form-label">On this machine</span>
          <BFormInput v-model="first" list="compare-machines" placeholder="all groups" autocomplete="off" />
        </label>
        <label>
          <span class="form-label">and on this one</span>
          <BFormInput v-model="second" list="compare-machines" autocomplete="off" />
        </label>
        <datalist id="compare-machines">
          <option v-for="item in found ?? []" :key="item.id" :value="item.hostname" />
        </datalist>
        <BButton type="submit" variant="primary" :disabled="isPending || halves">Compare</BButton>
      </form>
      <p v-if="halves" class="sub mb-0 mt-2">Name two machines, or none for all groups.</p>
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
      <div v-for="one in [both.first, both.second]" :key="one.device" class="side">
        <RouterLink :to="{ name: 'device', params: { device: one.device } }">{{ one.device }}</RouterLink>
        <span>intended <ActionMark :action="one.intended" /></span>
        <span>effective <ActionMark :action="one.effective" /></span>
        <span>{{ one.why }}</span>
      </div>
      <BTableSimple v-if="both.differing.length" class="mt-3" caption-top>
        <caption>
          In what they differ
        </caption>
        <BThead
          ><BTr
            ><BTh>What</BTh><BTh>{{ both.first.device }}</BTh
            ><BTh>{{ both.second.device }}</BTh
            ><BTh>By itself</BTh></BTr
          ></BThead
        >
        <BTbody>
          <BTr v-for="one in both.differing" :key="one.what">
            <BTd>{{ one.what }}</BTd><BTd>{{ one.first }}</BTd
            ><BTd>{{ one.second }}</BTd>
            <BTd><b v-if="one.decides">decides</b><span v-else class="dim">does not decide</span></BTd>
          </BTr>
        </BTbody>
      </BTableSimple>
    </section>
  </div>
</template>

<style scoped>
.side {
  display: grid;
  grid-template-columns: 12rem 9rem 9rem minmax(0, 1fr);
  gap: 0.6rem;
  padding: 0.35rem 0;
  border-top: 1px solid var(--line-2);
}
.wrong {
  color: var(--block);
  margin: 0.7rem 0 0;
}
</style>
