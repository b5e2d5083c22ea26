<script setup lang="ts">
import { computed, ref } from 'vue'

import type { Finding } from '@/api/client'
import { plain } from '@/lib/words'
import { routeOf } from '@/rulesets/kinds'
import { useRulesets } from '@/rulesets/useRulesets'
import { useAccept, useFindingDevices, useReopen, useTakeRemedy } from './useFindings'

/** One finding: what it is about, its machines, its remedies with their previews, and a way to accept it for a while. */
const props = defineProps<{ finding: Finding }>()
const { data: rulesets } = useRulesets()
const take = useTakeRemedy()
const accept = useAccept()
const reopen = useReopen()
const kindOf = (key: string) => rulesets.value?.find((one) => one.key === key)?.kind ?? 'category'
const problem = computed(() => take.error.value ?? accept.error.value ?? reopen.error.value)

const reason = ref('')
const until = ref<string | null>()
const accepting = ref(false)
function acceptIt() {
  accept.mutate(
    { finding: props.finding.id, reason: reason.value.trim(), until: until.value! },
    { onSuccess: () => (accepting.value = false) },
  )
}
/** Whether all machines are to be named. */
const every = ref(false)
const { data: devices } = useFindingDevices(() => props.finding.id, every)
const names = computed(() => devices.value?.items.map((device) => device.hostname) ?? props.finding.examples)
const groups = computed(() => props.finding.groups.filter((key) => key !== 'machine'))
</script>

<template>
  <section class="panel detail" aria-live="polite">
    <p class="mb-2">
      <SeverityMark :severity="finding.severity" /> <span class="chip">{{ plain(finding.kind) }}</span>
    </p>
    <h2>{{ finding.sentence }}</h2>
    <p v-if="finding.detail" class="sub">“{{ finding.detail }}”</p>
    <dl>
      <dt v-if="finding.devices">Machines</dt>
      <dd v-if="finding.devices">
        <template v-for="(name, place) in names" :key="name"
          ><template v-if="place">, </template
          ><RouterLink :to="{ name: 'device', params: { device: name } }">{{ name }}</RouterLink></template
        >{{ ' ' }}
        <BButton v-if="finding.devices > names.length" variant="link" class="p-0" @click="every = true"
          >and {{ (finding.devices - names.length).toLocaleString() }} more</BButton
        >
      </dd>
      <dt v-if="finding.rules.length">Rules</dt>
      <dd v-if="finding.rules.length">
        <div v-for="rule in finding.rules.slice(0, 8)" :key="`${rule.ruleset}/${rule.rule}`">
          <RouterLink :to="{ name: routeOf(kindOf(rule.ruleset)), params: { ruleset: rule.ruleset } }">{{
            rule.ruleset
          }}</RouterLink>
          <span class="dim">, {{ rule.selector }}</span>
        </div>
        <span v-if="finding.rules.length > 8" class="dim">and {{ finding.rules.length - 8 }} more</span>
      </dd>
      <dt v-if="groups.length > 1">Groups</dt>
      <dd v-if="groups.length > 1">
        <RouterLink :to="{ name: 'board', query: { groups: groups.slice(0, 3).join(',') } }"
          >Compare {{ groups.slice(0, 3).join(' and ') }}</RouterLink
        >
      </dd>
    </dl>
    <p v-if="problem" class="wrong" role="alert"><Icon name="exclamation" /> {{ problem.message }}</p>
    <div v-needs:author>
      <h3 v-if="finding.remedies.length">What would settle it</h3>
      <ul>
        <li v-for="one in finding.remedies" :key="one.key">
          <span>{{ one.sentence }}</span>
          <BButton
            variant="light"
            size="sm"
            @click="take.plan({ finding: finding.id, remedy: one.key }, { title: one.sentence })"
            >Look at it…<span class="visually-hidden"> {{ one.sentence }}</span></BButton
          >
        </li>
      </ul>
    </div>
    <p v-if="finding.accepted" class="sub">
      Accepted by {{ finding.accepted.by }} until <MomentText :at="finding.accepted.until" />: “{{
        finding.accepted.reason
      }}”
      <BButton v-needs:author variant="link" @click="reopen.mutate(finding.id)">Open it again</BButton>
    </p>
    <div v-else v-needs:author>
      <BButton v-if="!accepting" variant="link" class="px-0" @click="accepting = true"
        >Accept it for a while…</BButton
      >
      <form v-else class="accept" @submit.prevent="acceptIt">
        <label class="form-label" for="accept-reason">Why it may stay</label>
        <BFormInput id="accept-reason" v-model="reason" required maxlength="2000" />
        <MomentInput v-model="until" label="Until" ends required begin="in 30 days" />
        <div class="buttons">
          <BButton variant="light" @click="accepting = false">Back</BButton>
          <BButton type="submit" variant="primary" :disabled="accept.isPending.value || !until"
            >Accept</BButton
          >
        </div>
      </form>
    </div>
  </section>
</template>

<style scoped>
.detail {
  position: sticky;
  top: 1rem;
}
h2 {
  font-size: 1rem;
  line-height: 1.4;
  overflow-wrap: anywhere;
}
h3 {
  font-size: 0.875rem;
  font-weight: 600;
}
dl {
  display: grid;
  grid-template-columns: 5rem 1fr;
  gap: 0.3rem 0.8rem;
}
dt {
  font-weight: 500;
  color: var(--ink-2);
}
dd {
  margin: 0;
  overflow-wrap: anywhere;
}
dd a {
  text-decoration: underline;
}
ul {
  list-style: none;
  padding: 0;
}
li {
  display: flex;
  justify-content: space-between;
  gap: 0.8rem;
  align-items: center;
  padding: 0.35rem 0;
  border-top: 1px solid var(--line-2);
}
li .btn {
  white-space: nowrap;
}
.accept {
  display: grid;
  gap: 0.3rem;
}
.buttons {
  display: flex;
  justify-content: flex-end;
  gap: 0.5rem;
  margin-top: 0.5rem;
}
.wrong {
  color: var(--block);
}
</style>
