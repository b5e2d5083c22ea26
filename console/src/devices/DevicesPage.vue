<script setup lang="ts">
import { refDebounced } from '@vueuse/core'
import { useRouteQuery } from '@vueuse/router'
import { computed } from 'vue'

import { blockerCodeValues, kindValues, lifecycleValues } from '@/api/schema'
import { useGroupOptions } from '@/groups/useGroups'
import { plain } from '@/lib/words'
import { type RolloutFilters, useRollout } from '@/rollout/useRollout'
import { type DeviceFilters, useDevices } from './useDevices'

const STATES = ['current', 'waiting', 'failed', 'silent'] as const
const COLUMNS = [
  { key: 'hostname', label: 'Machine' },
  { key: 'kind', label: 'Kind' },
  { key: 'unit', label: 'Unit' },
  { key: '', label: 'Groups, strongest first' },
  { key: 'os', label: 'System' },
  { key: 'last_heard', label: 'Heard' },
  { key: 'rollout', label: 'Roll-out' },
  { key: '', label: 'In the way' },
]

const search = useRouteQuery<string>('search', '')
const unit = useRouteQuery<string>('unit', '')
const kind = useRouteQuery<string>('kind', '')
const group = useRouteQuery<string>('group', '')
const rollout = useRouteQuery<string>('rollout', '')
const lifecycle = useRouteQuery<string>('lifecycle', '')
const blocker = useRouteQuery<string>('blocker', '')
const layer = useRouteQuery<string>('layer', '')
const where = useRouteQuery<string>('where', '')
const sort = useRouteQuery<string>('sort', '')
const order = useRouteQuery<string>('order', '')
const typed = refDebounced(search, 200)
const typedWhere = refDebounced(where, 400)
const conditions = computed(() =>
  typedWhere.value
    .split(';')
    .map((one) => one.trim())
    .filter(Boolean),
)

/** What narrows the list, its roll-out state aside. */
const narrowed = computed(
  () =>
    ({
      search: typed.value || undefined,
      unit: unit.value || undefined,
      kind: kind.value || undefined,
      group: group.value || undefined,
      lifecycle: lifecycle.value || undefined,
      blocker: blocker.value || undefined,
      layer: layer.value || undefined,
      where: conditions.value.length ? conditions.value : undefined,
    }) as RolloutFilters,
)
const filters = computed(
  () =>
    ({
      ...narrowed.value,
      rollout: rollout.value || undefined,
      sort: sort.value || 'hostname',
      descending: order.value === 'descending',
      limit: 50,
    }) as DeviceFilters,
)
const devices = useDevices(filters)
const { data: counts } = useRollout(narrowed)
const groupOptions = useGroupOptions('Any group')

const narrowing = [search, unit, kind, group, rollout, lifecycle, blocker, layer, where]
const filtered = computed(() => narrowing.some((one) => one.value))
const kinds = [{ value: '', text: 'Any kind' }, ...kindValues.map((value) => ({ value, text: value }))]
const lifecycles = [
  { value: '', text: 'Any lifecycle' },
  ...lifecycleValues.map((value) => ({ value, text: value })),
]
const blockers = [
  { value: '', text: 'Any blocker' },
  ...blockerCodeValues.map((value) => ({ value, text: plain(value) })),
]
const states = [{ value: '', text: 'Any roll-out state' }, ...STATES.map((value) => ({ value, text: value }))]

function sortBy(key: string) {
  const same = (sort.value || 'hostname') === key
  const descending = same && order.value !== 'descending'
  if (same) order.value = descending ? 'descending' : ''
  else sort.value = key
}
const ariaSort = (key: string) =>
  (sort.value || 'hostname') !== key ? undefined : order.value === 'descending' ? 'descending' : 'ascending'

/** Which machines are to be restricted: the group, where the list is that and no more, else those that are shown. */
const meant = computed(() =>
  group.value && narrowing.every((one) => one === group || !one.value)
    ? [group.value]
    : filtered.value
      ? (devices.items.value ?? []).map(({ hostname }) => hostname)
      : [],
)

function clear() {
  for (const one of narrowing) one.value = ''
}
</script>

<template>
  <div class="page">
    <FleetTabs />
    <PageHead title="Machines">
      <template #actions><RestrictionDeeds :on="meant" label="Restrict these…" /></template>
      <span role="status"
        ><b>{{ devices.total.value?.toLocaleString() ?? '…' }}</b>
        {{ devices.total.value === 1 ? 'machine' : 'machines'
        }}{{ filtered ? (devices.total.value === 1 ? ' matches' : ' match') : '' }}</span
      >
      <template v-for="state in STATES" :key="state">
        <a v-if="counts?.[state]" href="#" @click.prevent="rollout = state"
          >{{ counts[state] }} {{ state }}</a
        >
      </template>
    </PageHead>
    <div class="filters">
      <BFormInput
        v-model="search"
        type="search"
        placeholder="Hostname, unit or serial"
        aria-label="Hostname, unit or serial"
      />
      <BFormSelect v-model="kind" :options="kinds" aria-label="Kind" />
      <BFormSelect v-model="group" :options="groupOptions" aria-label="Group" />
      <BFormSelect v-model="rollout" :options="states" aria-label="Roll-out state" />
      <BFormSelect v-model="lifecycle" :options="lifecycles" aria-label="Lifecycle" />
      <BFormSelect v-model="blocker" :options="blockers" aria-label="In the way" />
      <BFormInput
        v-model="where"
        class="where mono"
        placeholder="os.version below 12.4; place is off-site"
        aria-label="Conditions, set apart by semicolons"
      />
      <BButton v-if="layer" variant="light" @click="layer = ''">
        {{ layer }} <Icon name="cross" label="lift" />
      </BButton>
      <BButton v-if="unit" variant="light" @click="unit = ''">
        {{ unit }} <Icon name="cross" label="lift" />
      </BButton>
      <BButton v-if="filtered" variant="link" @click="clear">Show all</BButton>
    </div>
    <div class="panel flush">
      <StateBox
        :loading="devices.isPending.value"
        :error="devices.error.value"
        :empty="devices.total.value === 0"
        @retry="devices.refetch()"
      >
        <template #empty>
          <template v-if="filtered">
            <p class="sub">No machine matches these filters.</p>
            <BButton variant="light" @click="clear">Show all</BButton>
          </template>
          <template v-else>
            <p><b>No machine has joined yet.</b></p>
            <p class="sub">
              Make a code under <RouterLink :to="{ name: 'enrolment' }">Enrolment</RouterLink> and use it on
              the first machine.
            </p>
          </template>
        </template>
        <BTableSimple hover caption-top class="b-table-no-sort-icon">
          <caption class="visually-hidden">
            Machines
          </caption>
          <BThead>
            <BTr>
              <BTh
                v-for="column in COLUMNS"
                :key="column.label"
                :aria-sort="column.key ? ariaSort(column.key) : undefined"
              >
                <button v-if="column.key" type="button" class="sort" @click="sortBy(column.key)">
                  {{ column.label }}
                  <Icon
                    v-if="ariaSort(column.key)"
                    :name="ariaSort(column.key) === 'ascending' ? 'arrowUp' : 'arrowDown'"
                  />
                </button>
                <template v-else>{{ column.label }}</template>
              </BTh>
            </BTr>
          </BThead>
          <BTbody>
            <BTr v-for="device in devices.items.value" :key="device.id">
              <BTd><MachineName :id="device.id" :hostname="device.hostname" /></BTd>
              <BTd>{{ device.facts.kind }}</BTd>
              <BTd>
                <a
                  v-if="device.facts.unit"
                  href="#"
                  class="plain"
                  @click.prevent="unit = device.facts.unit"
                  >{{ device.facts.unit }}</a
                >
                <span v-else class="dim">–</span>
              </BTd>
              <BTd class="sub"
                >{{ device.groups.slice(0, 3).join(', ')
                }}<span v-if="device.groups.length > 3" class="dim" :title="device.groups.join(', ')">
                  +{{ device.groups.length - 3 }}</span
                ></BTd
              >
              <BTd class="sub text-nowrap"
                >{{ device.facts.os?.family ?? '–' }} {{ device.facts.os?.version }}</BTd
              >
              <BTd><RelativeTime :at="device.last_heard" /></BTd>
              <BTd>
                <RolloutMark v-if="device.rollout" :state="device.rollout.state" />
                <span v-else class="dim">{{ device.lifecycle }}</span>
              </BTd>
              <BTd>
                <b v-if="device.blockers.length" class="weak" :title="device.blockers.map(plain).join(', ')">
                  {{ plain(device.blockers[0]!) }}</b><span v-if="device.blockers.length > 1" class="dim">
                  +{{ device.blockers.length - 1 }}</span
                >
              </BTd>
            </BTr>
          </BTbody>
        </BTableSimple>
      </StateBox>
    </div>
    <div v-if="devices.hasNextPage.value" class="text-center mt-3">
      <BButton variant="light" :disabled="devices.isFetchingNextPage.value" @click="devices.fetchNextPage()">
        Show 50 more
      </BButton>
    </div>
  </div>
</template>

<style scoped>
.filters input {
  width: 200px;
}
.filters select {
  max-width: 9.5rem;
}
.filters .where {
  flex: 1;
  min-width: 14rem;
  font-size: 0.8rem;
}
.sort {
  background: none;
  border: 0;
  padding: 0;
  font: inherit;
  color: inherit;
}
.plain {
  color: var(--ink-2);
}
.weak {
  color: var(--block);
  font-weight: 600;
}
</style>
