<script setup lang="ts">
import { useRouteQuery } from '@vueuse/router'
import { computed } from 'vue'

import { counted, plain } from '@/lib/words'
import { useFindings } from './useFindings'

/** What an administrator should settle: a list at the left, the chosen one with its machines and remedies beside it. */
const { data, isPending, error, refetch } = useFindings()
const kind = useRouteQuery<string>('kind', '')
const severity = useRouteQuery<string>('severity', '')
const accepted = useRouteQuery<string>('accepted', '')
const id = useRouteQuery<string>('finding', '')

const shown = computed(() =>
  (data.value?.items ?? []).filter(
    (one) =>
      (!kind.value || one.kind === kind.value) &&
      (!severity.value || one.severity === severity.value) &&
      (accepted.value === 'too' || !one.accepted),
  ),
)
const chosen = computed(() =>
  id.value ? data.value?.items.find((one) => one.id === id.value) : shown.value[0],
)
const kinds = computed(() => [
  { value: '', text: 'Every kind' },
  ...[...new Set(data.value?.items.map((one) => one.kind))]
    .sort()
    .map((one) => ({ value: one, text: plain(one) })),
])
const SEVERITIES = [{ value: '', text: 'Every severity' }, 'high', 'medium', 'low']
</script>

<template>
  <div class="page">
    <PageHead title="Findings">
      <span v-if="data">
        <b>{{ data.open.high }}</b> high, <b>{{ data.open.medium }}</b> medium, <b>{{ data.open.low }}</b> low
        <template v-if="data.accepted">; {{ data.accepted }} accepted for now</template>
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
        </nav>
        <FindingDetail v-if="chosen" :key="chosen.id" :finding="chosen" />
        <section v-else class="panel" aria-live="polite">
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
.what {
  overflow-wrap: anywhere;
}
.what .small {
  display: block;
}
</style>
