<script setup lang="ts">
import { useRouteQuery } from '@vueuse/router'
import { computed, ref } from 'vue'
import { useRoute } from 'vue-router'

import { useActivity } from '@/activity/useActivity'
import AttemptTry from '@/checks/AttemptTry.vue'
import BrowserListView from '@/site-lists/BrowserListView.vue'
import RestrictionDeeds from '@/restrictions/RestrictionDeeds.vue'
import { useRestrictions } from '@/restrictions/useRestrictions'
import { shownAction } from '@/lib/shownAction'
import { span } from '@/lib/words'
import { useSeenBy } from '@/verifying/useObserved'
import { useBlocks, useDevice, useDeviceEvents, useDeviceReadiness } from './useDevices'

const route = useRoute()
const id = computed(() => String(route.params.device))
const tab = useRouteQuery<string>('tab', '')
const { data: device, isPending, error, refetch } = useDevice(id)
const blocks = useBlocks(id)
const readiness = useDeviceReadiness(id)
const events = useDeviceEvents(id)
const activity = useActivity(computed(() => ({ device: id.value, tests: true, limit: 30 })))
const observed = useSeenBy(id)
const saying = ref(false)
const { data: restrictions } = useRestrictions(id)
const deeds = ref<InstanceType<typeof RestrictionDeeds>>()
const visit = ref<InstanceType<typeof AttemptTry>>()

const tabs = computed(() => {
  const inTheWay = readiness.data.value?.blockers.length
  return [
    { key: '', label: 'What it will block' },
    { key: 'readiness', label: inTheWay ? `Readiness ${inTheWay}` : 'Readiness' },
    { key: 'site-list', label: 'Site list' },
    { key: 'observed', label: 'Observed' },
    { key: 'activity', label: 'Activity' },
    { key: 'facts', label: 'Facts' },
    { key: 'history', label: 'History' },
  ]
})
const nothing = computed(() => {
  const found = blocks.data.value
  return !!found && !found.categories.length && !found.counts.length && !found.sometimes.length
})
const rollout = computed(() => device.value?.rollout)
const crumbs = computed(() => {
  const parts = device.value?.facts.unit?.split('/') ?? []
  return parts.map((label, place) => ({ label, unit: parts.slice(0, place + 1).join('/') }))
})
</script>

<template>
  <div class="page">
    <StateBox :loading="isPending" :error="error" :rows="10" @retry="refetch()">
      <template v-if="device">
        <PageHead :title="device.hostname">
          <template #crumbs>
            <RouterLink :to="{ name: 'devices' }">Fleet</RouterLink>
            <template v-for="crumb in crumbs" :key="crumb.unit">
              /
              <RouterLink :to="{ name: 'devices', query: { unit: crumb.unit } }">{{
                crumb.label
              }}</RouterLink>
            </template>
          </template>
          <template #marks>
            <span class="chip">{{ device.facts.kind }}</span>
            <b v-if="['invited', 'retired'].includes(device.lifecycle)" class="chip">{{
              device.lifecycle
            }}</b>
            <span v-for="(value, name) in device.labels" :key="name" class="chip"
              >{{ name }}: {{ value }}</span
            >
          </template>
          <template #actions>
            <BButton
              v-if="device.lifecycle !== 'retired'"
              v-needs:author
              variant="light"
              @click="saying = true"
              >Block or allow…</BButton
            >
            <PushButton
              v-if="!['invited', 'retired'].includes(device.lifecycle)"
              :machines="{ devices: [device.id] }"
              :to="device.hostname"
            />
            <RestrictionDeeds
              v-if="!['invited', 'retired'].includes(device.lifecycle)"
              ref="deeds"
              :on="[device.hostname]"
            />
            <MachineDeeds :device="device" />
          </template>
          <span v-if="device.facts.os"
            ><b>{{ device.facts.os.family }}</b> {{ device.facts.os.version }}</span
          >
          <span
            >last heard <b><RelativeTime :at="device.last_heard" /></b
          ></span>
          <span v-if="device.usual_interval"
            >usually every <b>{{ span(device.usual_interval) }}</b></span
          >
          <span v-if="rollout">
            holds revision <b>{{ device.applied_revision ?? '–' }}</b><template
              v-if="rollout.state !== 'current'"
            >
              , should hold <b>{{ rollout.wanted_revision }}</b></template
            >
          </span>
          <span v-if="device.facts.place"
            >place <b>{{ device.facts.place }}</b></span
          >
          <span v-if="device.facts.zone"
            >clock <b>{{ device.facts.zone }}</b></span
          >
        </PageHead>
        <QuickRuleDialog v-model="saying" :on="device.hostname" of="device" />
        <section v-if="restrictions?.in_force.length" class="panel flush mt-3" aria-label="Restricted now">
          <RestrictionList :items="restrictions.in_force" @lift="(one) => deeds?.lift(one)" />
        </section>
        <RejoinBox v-if="device.rejoin_of" :device="device" class="mt-3" />
        <TabLinks :tabs="tabs" :current="tab" label="About this machine" />
        <div class="with-side">
          <div v-show="tab === ''">
            <AttemptTry ref="visit" :device="device.id" :programs="device.facts.applications" />
            <div class="panel flush">
              <StateBox
                :loading="blocks.isPending.value"
                :error="blocks.error.value"
                :empty="nothing"
                @retry="blocks.refetch()"
              >
                <template #empty>
                  <p><b>No rule names anything for this machine.</b></p>
                  <p class="sub">
                    Assign a ruleset to one of its groups under
                    <RouterLink :to="{ name: 'categories' }">web categories</RouterLink>.
                  </p>
                </template>
                <BlocksTable
                  v-if="blocks.data.value"
                  :blocks="blocks.data.value"
                  @try="visit?.tryIt($event)"
                />
              </StateBox>
            </div>
          </div>
          <div v-if="tab === 'activity'" class="panel flush">
            <StateBox
              :loading="activity.isPending.value"
              :error="activity.error.value"
              :empty="activity.total.value === 0"
              @retry="activity.refetch()"
            >
              <template #empty
                ><p class="sub">Nothing was stopped, warned of or recorded here yet.</p></template
              >
              <ActivityTable :items="activity.items.value ?? []" />
            </StateBox>
          </div>
          <div v-if="tab === 'site-list'">
            <BrowserStandings :device="device.id" />
            <BrowserListView
              :whose="{ device: device.id }"
              :browsers="device.facts.browsers?.map((one) => one.name)"
              :platform="device.facts.os?.family"
            />
          </div>
          <FactsTable v-if="tab === 'facts'" :device="device" />
          <section v-if="tab === 'observed'" class="panel" aria-label="Observed">
            <h2>What it saw when it was asked to try</h2>
            <StateBox
              :loading="observed.isPending.value"
              :error="observed.error.value"
              :empty="!observed.data.value?.length"
              :rows="3"
            >
              <template #empty
                ><p class="sub mb-0">
                  It has not tried a probe yet. <RouterLink :to="{ name: 'runs' }">Ask it</RouterLink>
                </p></template
              >
              <SeenTable :seen="observed.data.value ?? []" by="probe" />
            </StateBox>
          </section>
          <section v-if="tab === 'readiness'" class="panel" aria-label="Readiness">
            <StateBox
              :loading="readiness.isPending.value"
              :error="readiness.error.value"
              :rows="4"
              @retry="readiness.refetch()"
            >
              <ReadinessList v-if="readiness.data.value" :readiness="readiness.data.value" />
            </StateBox>
          </section>
          <section v-if="tab === 'history'" class="panel" aria-label="History">
            <h2>What was done to it</h2>
            <ol class="history">
              <li v-for="(event, place) in events.data.value" :key="place">
                <span class="dim"><RelativeTime :at="event.at" /></span>
                <div>
                  {{ event.what }} <span class="dim">by {{ event.by }}</span>
                  <div v-if="event.reason" class="small dim">“{{ event.reason }}”</div>
                </div>
              </li>
            </ol>
            <GoverningList :device="device.id" />
          </section>
          <aside>
            <section v-if="rollout" class="panel">
              <h2>Roll-out</h2>
              <div>
                <RolloutMark :state="rollout.state" /> since
                <RelativeTime :at="rollout.since" />
              </div>
              <p v-if="rollout.state === 'waiting'" class="sub small mb-0">
                Revision {{ rollout.wanted_revision }} waits for its next check-in<template
                  v-if="rollout.expected_in != null"
                  >, expected in about {{ span(rollout.expected_in) }}</template
                >.
              </p>
              <p v-if="rollout.problem" class="small mb-0">{{ rollout.problem }}</p>
              <CaveatList :caveats="blocks.data.value?.caveats ?? []" />
            </section>
            <section v-if="device.groups.length" class="panel">
              <h2>Groups, strongest first</h2>
              <ol class="groups">
                <li v-for="group in device.groups" :key="group">
                  <RouterLink :to="{ name: 'groups', params: { group } }">{{ group }}</RouterLink>
                </li>
              </ol>
              <RouterLink :to="{ name: 'board', query: { device: device.hostname } }" class="small"
                >What each contributes</RouterLink
              >
            </section>
            <section v-if="readiness.data.value && tab !== 'readiness'" class="panel">
              <h2>Readiness</h2>
              <ReadinessList :readiness="readiness.data.value" short />
              <RouterLink
                v-if="readiness.data.value.blockers.length"
                :to="{ query: { tab: 'readiness' } }"
                class="small"
                >What to do</RouterLink
              >
            </section>
            <section v-if="tab === ''" class="panel">
              <h2>Recent activity</h2>
              <p v-if="!activity.items.value?.length" class="sub mb-0">
                Nothing was stopped or recorded yet.
              </p>
              <ul v-else class="recent">
                <li v-for="one in activity.items.value.slice(0, 5)" :key="one.seq">
                  <code>{{ one.host }}</code>
                  <ActionMark :action="shownAction(one.verdict, one.logged)" bare />
                  <span class="dim small ms-auto"><RelativeTime :at="one.at" /></span>
                </li>
              </ul>
              <RouterLink :to="{ query: { tab: 'activity' } }" class="small">All of it</RouterLink>
            </section>
          </aside>
        </div>
      </template>
    </StateBox>
  </div>
</template>

<style scoped>
.groups {
  margin: 0;
  padding-left: 1.4rem;
}
.groups li {
  padding: 0.15rem 0;
}
.history {
  list-style: none;
  margin: 0;
  padding: 0;
}
.history li {
  display: grid;
  grid-template-columns: 6rem minmax(0, 1fr);
  gap: 0.7rem;
  padding: 0.35rem 0;
}
.groups li::marker {
  color: var(--ink-3);
}
.recent {
  list-style: none;
  padding: 0;
  margin: 0 0 0.4rem;
}
.recent li {
  display: flex;
  justify-content: space-between;
  gap: 0.5rem;
  padding: 0.2rem 0;
}
.recent code {
  overflow: hidden;
  text-overflow: ellipsis;
}
</style>
