<script setup lang="ts">
import { computed, ref } from 'vue'
import { useRoute, useRouter } from 'vue-router'

import { counted } from '@/lib/words'
import RunResults from './RunResults.vue'
import { probeSets } from './useDrawUp'
import { type Run, useProbedRules, useRun, useRuns, useStartRun } from './useRuns'

/** What probe sets came to over the fleet: the runs at the left, the chosen one beside them. */
const route = useRoute()
const router = useRouter()
const { items, isPending, error, refetch, hasNextPage, fetchNextPage } = useRuns()
const current = computed(() => Number(route.params.run || items.value?.[0]?.id || 0) || undefined)
const { data: run, error: missing } = useRun(current)
const { data: probed } = useProbedRules()
const { data: sets } = probeSets.useAll()
const { mutate: start, isPending: starting, error: refused } = useStartRun()
const set = ref('')
const on = ref('')
const options = computed(() => [
  { value: '', text: 'Every probe set' },
  ...(sets.value ?? []).map((one) => ({ value: one.key, text: one.name ?? one.key })),
])

const verify = (kind: Run['kind']) =>
  start(
    { sets: set.value ? [set.value] : [], on: on.value.trim() ? [on.value.trim()] : [], kind },
    { onSuccess: (made) => void router.push({ name: 'runs', params: { run: made.id } }) },
  )
</script>

<template>
  <div class="page">
    <VerifyTabs />
    <PageHead title="Runs">
      <span>What each machine would do about every probe; or what it saw.</span>
      <template #actions>
        <form class="start" @submit.prevent="verify('predicted')">
          <BFormSelect v-model="set" :options="options" aria-label="Probe set" />
          <BFormInput
            v-model="on"
            placeholder="everywhere"
            aria-label="Only on this group or machine"
            maxlength="253"
          />
          <BButton v-needs:responder type="submit" variant="primary" :disabled="starting">Verify</BButton>
          <BButton v-needs:responder variant="light" :disabled="starting" @click="verify('observed')"
            >Ask the machines</BButton
          >
        </form>
      </template>
    </PageHead>
    <p v-if="refused" class="wrong" role="alert"><Icon name="exclamation" /> {{ refused.message }}</p>
    <StateBox :loading="isPending" :error="error" :empty="items?.length === 0" :rows="6" @retry="refetch()">
      <template #empty>
        <p class="mb-0"><b>Nothing has been verified yet.</b></p>
        <p class="sub">
          A probe says what should be stopped, or go on working, and where.
          <RouterLink :to="{ name: 'probe-sets' }">Write some</RouterLink>, then verify.
        </p>
      </template>
      <div class="columns">
        <nav class="panel flush" aria-label="Runs">
          <RouterLink
            v-for="one in items"
            :key="one.id"
            :to="{ name: 'runs', params: { run: one.id } }"
            class="entry"
            :class="{ on: one.id === current }"
            :aria-current="one.id === current ? 'true' : undefined"
          >
            <span class="head">
              <b>Run {{ one.id }}<template v-if="one.kind === 'observed'">, observed</template></b>
              <StateMark v-if="one.state === 'running'" tone="away" icon="hourglass" :state="'under way'" />
              <StateMark
                v-else-if="one.state === 'failed'"
                tone="bad"
                icon="exclamationFill"
                :state="'not carried out'"
              />
              <StateMark
                v-else-if="one.failed"
                tone="bad"
                icon="exclamationFill"
                :state="`${one.failed} of ${one.probes - (one.nowhere ?? 0)} fail`"
              />
              <StateMark v-else tone="good" icon="check" :state="'all hold'" />
            </span>
            <span class="small dim"
              ><RelativeTime :at="one.at" /> by {{ one.by }}, revision {{ one.revision }};
              {{ counted(one.devices, 'machine') }}</span
            >
          </RouterLink>
          <p v-if="hasNextPage" class="more small">
            <BButton variant="light" @click="fetchNextPage()">Show more</BButton>
          </p>
          <p v-if="probed" class="more small dim">{{ probed.sentence }}</p>
        </nav>
        <section v-if="missing" class="panel" aria-live="polite">
          <p class="mb-0">{{ missing.message }}</p>
        </section>
        <RunResults v-else-if="run" :key="run.id" :run="run" />
      </div>
    </StateBox>
  </div>
</template>

<style scoped>
.page .columns {
  grid-template-columns: 300px minmax(0, 1fr);
}
.start {
  display: flex;
  gap: 0.5rem;
}
.start input {
  max-width: 9rem;
}
.start select {
  max-width: 13rem;
}
.start .btn {
  white-space: nowrap;
}
.entry {
  display: block;
  padding: 0.5rem 0.9rem;
}
.head {
  display: flex;
  justify-content: space-between;
  gap: 0.6rem;
}
.more {
  margin: 0;
  padding: 0.5rem 0.9rem;
}
.wrong {
  color: var(--block);
}
</style>
