<script setup lang="ts">
import { useRouteQuery } from '@vueuse/router'
import { computed } from 'vue'

import { counted, plain } from '@/lib/words'
import { type FindingFilters, useFinding, useFindings } from './useFindings'

/** What an administrator should settle: a list at the left, the chosen one with its machines and remedies beside it. */
const kind = useRouteQuery<string>('kind', '')
const severity = useRouteQuery<string>('severity', '')
const accepted = useRouteQuery<string>('accepted', '')
const id = useRouteQuery<string>('finding', '')

const { items, counts, total, isPending, error, refetch, hasNextPage, fetchNextPage, isFetchingNextPage } =
  useFindings(
    computed(
      () =>
        ({
          kind: kind.value || undefined,
          severity: severity.value || undefined,
          accepted: accepted.value === 'too' ? undefined : false,
        }) as FindingFilters,
    ),
  )
const shown = computed(() => items.value ?? [])
// one that the address names may stand further down than what was fetched; and lists tell not all of each
const listed = computed(() => (id.value ? shown.value.find((one) => one.id === id.value) : shown.value[0]))
const named = useFinding(() => id.value || (shown.value[0]?.id ?? ''))
const chosen = computed(() => named.data.value ?? listed.value)
const kinds = computed(() => [
  { value: '', text: 'Every kind' },
  ...Object.entries(counts.value?.kinds ?? {})
    .sort()
    .map(([one, number]) => ({ value: one, text: `${plain(one)} (${number})` })),
])
const SEVERITIES = [
  { value: '', text: 'Every severity' },
  { value: 'high', text: 'high' },
  { value: 'medium', text: 'high or medium' },
]
</script>

<template>
  <div class="page">
    <VerifyTabs />
    <PageHead title="Findings">
      <span v-if="counts">
        <b>{{ counts.open.high }}</b> high, <b>{{ counts.open.medium }}</b> medium,
        <b>{{ counts.open.low }}</b> low
        <template v-if="counts.accepted">; {{ counts.accepted }} accepted for now</template>
      </span>
      <template #actions>
        <BFormSelect v-model="severity" :options="SEVERITIES" aria-label="Severity" />
        <BFormSelect v-model="kind" :options="kinds" aria-label="Kind" />
        <BFormCheckbox
          :model-value="accepted === 'too'"
          class="text-nowrap align-self-center"
          @update:model-value="accepted = $event ? 'too' : ''"
          >accepted too</BFormCheckbox
        >
      </template>
    </PageHead>
    <StateBox :loading="isPending" :error="error" :empty="shown.length === 0" :rows="8" @retry="refetch()">
      <template #empty>
        <p class="mb-1"><b>Nothing is to be settled.</b></p>
        <p v-if="kind || severity" class="sub">
          Among what was chosen.
          <BButton variant="link" class="p-0" @click="kind = severity = ''">Show every finding</BButton>
        </p>
      </template>
      <div class="list-and-detail">
        <nav class="panel flush" aria-label="Findings">
          <RouterLink
            v-for="one in shown"
            :key="one.id"
            :to="{ query: { ...$route.query, finding: one.id } }"
            replace
            class="entry"
            :class="{ on: one.id === chosen?.id }"
            :aria-current="one.id === chosen?.id ? 'true' : undefined"
          >
            <SeverityMark :severity="one.severity" />
            <span class="what"
              >{{ one.sentence }}
              <span class="small dim"
                >{{ plain(one.kind)
                }}<template v-if="one.devices"> · {{ counted(one.devices, 'machine') }}</template
                ><template v-if="one.accepted"> · accepted</template></span
              ></span
            >
          </RouterLink>
          <p v-if="hasNextPage" class="more small">
            {{ shown.length }} of {{ total }}
            <BButton variant="light" :disabled="isFetchingNextPage" @click="fetchNextPage()"
              >Show more</BButton
            >
          </p>
        </nav>
        <FindingDetail v-if="chosen" :key="chosen.id" :finding="chosen" />
        <section v-else-if="named.error.value" class="panel" aria-live="polite">
          <p class="mb-1"><b>This finding is not there any more.</b></p>
          <p class="sub mb-0">
            What it was about may be settled. <code>{{ id }}</code>
          </p>
        </section>
      </div>
    </StateBox>
  </div>
</template>

<style scoped>
.entry {
  display: flex;
  gap: 0.6rem;
  padding: 0.5rem 0.9rem;
}
.more {
  display: flex;
  gap: 0.6rem;
  align-items: center;
  margin: 0;
  padding: 0.5rem 0.9rem;
}
.what {
  overflow-wrap: anywhere;
}
.what .small {
  display: block;
}
</style>
