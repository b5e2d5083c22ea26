<script setup lang="ts">
import { useRouteQuery } from '@vueuse/router'
import { computed } from 'vue'

import { useActivity } from '@/activity/useActivity'
import { useDevices } from '@/devices/useDevices'
import { useGroups } from '@/groups/useGroups'
import { useIndicators } from '@/indicators/useIndicators'
import { routeOf } from '@/rulesets/kinds'
import { useRulesets } from '@/rulesets/useRulesets'
import { useLookup } from './useLookup'
import { usePeople } from './usePeople'

/** What the search in the top bar finds: a host with all that is known of it, the attempt of a reference, machines,
 * people, rules, groups and rulesets. */
const FEW = 8
const q = useRouteQuery<string>('q', '')
const text = computed(() => String(q.value ?? '').trim())
/** A name with a dot in it, or a URL, may be a host. */
const host = computed(() => (/^\S+\.\S+$|^\S+:\/\//.test(text.value) ? text.value : ''))
const lookup = useLookup(host)
const devices = useDevices(computed(() => ({ search: text.value || undefined, limit: FEW })))
/** The code on a notice. */
const reference = computed(() => (/^[a-z0-9]{4}-[a-z0-9]{4}$/i.test(text.value) ? text.value : ''))
const attempts = useActivity(
  // what is no reference finds no attempt
  computed(() => ({ reference: reference.value || 'none', limit: 1 })),
)
const people = usePeople(text, FEW)
const rules = useIndicators(computed(() => ({ q: text.value, limit: FEW })))
const { data: groups } = useGroups()
const { data: rulesets } = useRulesets()
const holds = (one: { key: string; name?: string | null }) =>
  text.value !== '' && `${one.key} ${one.name ?? ''}`.toLowerCase().includes(text.value.toLowerCase())
const places = computed(() => [
  ...(groups.value ?? []).filter(holds).map(({ key, name }) => ({
    key,
    name: name ?? key,
    what: 'group',
    to: { name: 'groups', params: { group: key } },
  })),
  ...(rulesets.value ?? []).filter(holds).map(({ key, name, kind }) => ({
    key,
    name,
    what: `ruleset of kind ${kind}`,
    to: {
      name: routeOf(kind),
      params: { ruleset: key },
    },
  })),
])
</script>

<template>
  <div class="page">
    <PageHead :title="text ? `Find “${text}”` : 'Find'">
      <span v-if="!text">Type a host, a URL, a machine or part of a rule into the search at the top.</span>
    </PageHead>
    <div v-if="host" class="mt-3">
      <StateBox :loading="lookup.isPending.value" :error="lookup.error.value" @retry="lookup.refetch()">
        <LookupPanel v-if="lookup.data.value" :found="lookup.data.value" />
      </StateBox>
    </div>
    <section v-if="reference && attempts.items.value?.length" class="panel flush mt-3" aria-label="Attempt">
      <ActivityTable :items="attempts.items.value" machine />
    </section>
    <div v-if="text" class="halves mt-3">
      <section class="panel" aria-label="Machines">
        <h2>Machines</h2>
        <p v-if="!devices.items.value?.length" class="sub mb-0">No machine matches.</p>
        <div v-for="item in devices.items.value ?? []" :key="item.id">
          <MachineName :id="item.id" :hostname="item.hostname" />
          <span class="small dim">{{ ` ${item.facts.unit ?? ''}` }}</span>
        </div>
        <RouterLink v-if="(devices.total.value ?? 0) > FEW" :to="{ name: 'devices', query: { search: text } }"
          >all {{ devices.total.value?.toLocaleString() }} machines</RouterLink
        >
        <template v-if="people.data.value?.people.length">
          <h2 class="mt-3">People</h2>
          <div v-for="person in people.data.value.people" :key="person.user">
            <RouterLink :to="{ name: 'activity', query: { user: person.user } }">{{
              person.user
            }}</RouterLink>
            <span class="small dim">{{ ` ${person.user_groups.join(', ')}` }}</span>
          </div>
          <p v-if="people.data.value.people_in_all > FEW" class="sub mb-0">
            and {{ (people.data.value.people_in_all - FEW).toLocaleString() }} more
          </p>
        </template>
        <template v-if="places.length">
          <h2 class="mt-3">Groups and rulesets</h2>
          <div v-for="place in places.slice(0, FEW)" :key="`${place.what}/${place.key}`">
            <RouterLink :to="place.to">{{ place.name }}</RouterLink>
            <span class="small dim">{{ ` ${place.what}` }}</span>
          </div>
        </template>
      </section>
      <section class="panel" aria-label="Indicators">
        <h2>Indicators</h2>
        <p v-if="!rules.items.value?.length" class="sub mb-0">No indicator matches.</p>
        <RuleFound
          v-for="item in rules.items.value ?? []"
          :key="`${item.ruleset}/${item.number}`"
          :found="item"
        />
        <RouterLink
          v-if="(rules.total.value ?? 0) > FEW"
          :to="{ name: 'indicators', params: { ruleset: '+all' }, query: { find: text } }"
          >all {{ rules.total.value?.toLocaleString() }} indicators</RouterLink
        >
      </section>
    </div>
  </div>
</template>

<style scoped>
.halves {
  display: grid;
  grid-template-columns: 1fr 1fr;
  gap: 1rem;
  align-items: start;
}
.halves .panel {
  margin-top: 0;
}
.halves .panel > a,
.halves .panel > div {
  line-height: 26px;
}
</style>
