<script setup lang="ts">
import { refDebounced } from '@vueuse/core'
import { useRouteQuery } from '@vueuse/router'
import { computed } from 'vue'

import { counted } from '@/lib/words'

import { type ActivityFilters, type CountFilters, useActivity, useActivityCounts } from './useActivity'

const VERDICTS = [
  { value: '', text: 'Any verdict' },
  { value: 'block', text: 'block' },
  { value: 'warn', text: 'warn' },
  { value: 'allow', text: 'allow, recorded' },
]
const host = useRouteQuery<string>('host', '')
const program = useRouteQuery<string>('program', '')
const typedProgram = refDebounced(program, 200)
const user = useRouteQuery<string>('user', '')
const typedUser = refDebounced(user, 300)
const verdict = useRouteQuery<string>('verdict', '')
const reference = useRouteQuery<string>('reference', '')
const tests = useRouteQuery<string>('tests', '')
const typedHost = refDebounced(host, 200)
const withTests = computed({
  get: () => tests.value === 'yes',
  set: (value) => (tests.value = value ? 'yes' : ''),
})
const filters = computed(
  () =>
    ({
      host: typedHost.value || undefined,
      program: typedProgram.value || undefined,
      user: typedUser.value.trim() || undefined,
      verdict: verdict.value || undefined,
      // half a code finds nothing yet
      reference: reference.value.trim().length === 9 ? reference.value.trim() : undefined,
      tests: withTests.value,
      limit: 50,
    }) as ActivityFilters,
)
const activity = useActivity(filters)
const { data: counts } = useActivityCounts(
  computed(() => {
    const { host, program, verdict } = filters.value
    return { host, program, verdict } as CountFilters
  }),
)
// people, notices and tests are not counted
const isCounted = computed(() => !user.value.trim() && !reference.value.trim() && !withTests.value)
</script>

<template>
  <div class="page">
    <PageHead title="Activity">
      <span>What machines stopped, warned of or recorded, one by one. What is allowed is only counted.</span>
    </PageHead>
    <div class="filters">
      <BFormInput
        v-model="reference"
        placeholder="Reference on a notice"
        aria-label="Reference on a notice"
        maxlength="9"
      />
      <BFormInput v-model="host" type="search" placeholder="Host" aria-label="Host" maxlength="253" />
      <BFormInput
        v-model="program"
        type="search"
        placeholder="Program"
        aria-label="Program"
        maxlength="255"
      />
      <BFormInput v-model="user" type="search" placeholder="Person" aria-label="Person" maxlength="255" />
      <BFormSelect v-model="verdict" :options="VERDICTS" aria-label="Verdict" />
      <BFormCheckbox v-model="withTests" class="align-self-center">with visits to test hosts</BFormCheckbox>
      <span class="dim ms-auto align-self-center" role="status">{{
        activity.total.value === undefined ? '…' : counted(activity.total.value, 'attempt')
      }}</span>
    </div>
    <ActivityBars v-if="counts && isCounted" :counts="counts" />
    <div class="panel flush">
      <StateBox
        :loading="activity.isPending.value"
        :error="activity.error.value"
        :empty="activity.total.value === 0"
        @retry="activity.refetch()"
      >
        <template #empty><p class="sub mb-0">No attempt of the kind was reported.</p></template>
        <ActivityTable :items="activity.items.value ?? []" machine />
      </StateBox>
    </div>
    <div v-if="activity.hasNextPage.value" class="text-center mt-3">
      <BButton
        variant="light"
        :disabled="activity.isFetchingNextPage.value"
        @click="activity.fetchNextPage()"
      >
        Show 50 more
      </BButton>
    </div>
  </div>
</template>

<style scoped>
.filters input[type='text'],
.filters input:not([type]) {
  width: 190px;
}
.filters input[type='search'] {
  width: 150px;
}
</style>
