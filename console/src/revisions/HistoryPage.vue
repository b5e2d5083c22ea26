<script setup lang="ts">
import { useRouteQuery } from '@vueuse/router'
import { computed } from 'vue'
import { useRoute, useRouter } from 'vue-router'

import { counted } from '@/lib/words'
import { evidencePage } from '@/verifying/useObserved'
import { type RevisionsAsked, useComparison, useRestore, useRevision, useRevisions } from './useRevisions'

/** Every revision: who, when, why, what; one opened or two compared; an earlier one restored. */
const route = useRoute()
const router = useRouter()
const q = useRouteQuery<string>('q', '')
const noun = useRouteQuery<string>('noun', '')
const by = useRouteQuery<string>('by', '')
const other = useRouteQuery<string>('with', '')
const asked = computed<RevisionsAsked>(() => ({
  q: q.value || undefined,
  noun: (noun.value || undefined) as RevisionsAsked['noun'],
  by: by.value || undefined,
  limit: 100,
}))
const { data, isPending, error, refetch } = useRevisions(asked)
const number = computed(() => Number(route.params.number || data.value?.items[0]?.number || 0))
const one = useRevision(number)
const pair = computed(() => {
  const compared = Number(other.value)
  if (!other.value || Number.isNaN(compared) || !number.value) return null
  return { from: Math.min(compared, number.value), to: Math.max(compared, number.value) }
})
const compared = useComparison(pair)
const restore = useRestore()
const { data: latest } = useRevisions({ limit: 1 })
/** The newest of all, whatever is listed: going back to it would be no change. */
const newest = computed(() => latest.value?.items[0]?.number ?? 0)

const PROOFS = { waiting: 'being proved', holds: 'proved', ended: 'not proved' }
const NOUNS = [
  { value: '', text: 'About anything' },
  ...'group,precedence,ruleset,assignment,schedule,application set,service,correction,notice,layer modes,coverage row,settings,probe set'
    .split(',')
    .map((value) => ({ value, text: value })),
]
function goBack() {
  restore.plan(number.value, {
    title: `the estate as it was at revision ${number.value}`,
    onRead: (made) => void router.push({ name: 'history', params: { number: made.number } }),
  })
}
</script>

<template>
  <div class="page">
    <RolloutTabs />
    <PageHead title="History">
      <span v-if="data">{{ counted(data.total, 'revision') }}</span>
      <template #actions>
        <BFormInput
          v-model="q"
          type="search"
          placeholder="words of what or why"
          aria-label="Search"
          :debounce="300"
        />
        <BFormSelect v-model="noun" :options="NOUNS" aria-label="About" />
        <BFormInput v-model="by" placeholder="by anybody" aria-label="By" :debounce="300" />
      </template>
    </PageHead>
    <StateBox
      :loading="isPending"
      :error="error"
      :empty="data?.items.length === 0"
      :rows="8"
      @retry="refetch()"
    >
      <template #empty><p class="sub mb-0">No revision is like that.</p></template>
      <div class="list-and-detail">
        <section class="panel flush list">
          <BTableSimple hover caption-top>
            <caption class="visually-hidden">
              Revisions, newest first
            </caption>
            <BThead
              ><BTr><BTh>Revision</BTh><BTh>What</BTh></BTr></BThead
            >
            <BTbody>
              <BTr v-for="row in data?.items" :key="row.number" :class="{ on: row.number === number }">
                <BTd>
                  <RouterLink
                    :to="{ name: 'history', params: { number: row.number }, query: route.query }"
                    :aria-current="row.number === number ? 'true' : undefined"
                    >{{ row.number }}</RouterLink
                  >
                </BTd>
                <BTd>
                  {{ row.summary }}
                  <div class="small dim">
                    {{ row.by }}, <RelativeTime :at="row.at" /><template v-if="row.devices"
                      >, {{ counted(row.devices, 'machine') }}</template
                    ><template v-if="row.proof">, {{ PROOFS[row.proof] }}</template
                    ><template v-if="row.reason">: “{{ row.reason }}”</template>
                  </div>
                </BTd>
              </BTr>
            </BTbody>
          </BTableSimple>
        </section>
        <section class="panel detail" aria-live="polite">
          <form class="compare" @submit.prevent>
            <label for="compare-with" class="sub">Compare with revision</label>
            <BFormInput
              id="compare-with"
              v-model="other"
              type="number"
              min="0"
              :max="newest"
              placeholder="none"
            />
            <BButton v-if="other" variant="link" @click="other = ''">Only {{ number }}</BButton>
            <BButton
              v-if="number && number !== newest"
              v-needs:author
              variant="light"
              class="ms-auto"
              @click="goBack"
              ><Icon name="clockHistory" /> Restore {{ number }}…</BButton
            >
          </form>
          <p v-if="restore.error.value" class="wrong" role="alert">
            <Icon name="exclamation" /> {{ restore.error.value.message }}
          </p>
          <template v-if="pair">
            <StateBox :loading="compared.isPending.value" :error="compared.error.value" :rows="4">
              <h2>From revision {{ pair.from }} to {{ pair.to }}</h2>
              <p class="sub">{{ compared.data.value?.summary }}</p>
              <ChangeList :changes="compared.data.value?.changes ?? []" />
            </StateBox>
          </template>
          <StateBox v-else :loading="one.isPending.value" :error="one.error.value" :rows="4">
            <template v-if="one.data.value">
              <h2>Revision {{ one.data.value.number }}: {{ one.data.value.summary }}</h2>
              <p class="sub">
                {{ one.data.value.by }}, {{ new Date(one.data.value.at).toLocaleString() }};
                {{ counted(one.data.value.devices, 'machine') }} got another bundle<template
                  v-if="one.data.value.reason"
                  >. “{{ one.data.value.reason }}”</template
                >
              </p>
              <PushButton
                v-if="number === newest"
                :machines="{ waiting: true }"
                to="all that wait for it"
                class="mb-3"
              />
              <p v-for="signed in one.data.value.evidence" :key="signed.id" class="small mb-2">
                <Icon name="check" />
                <a :href="evidencePage(signed.id)" target="_blank" rel="noopener"
                  >Evidence of run {{ signed.run }}</a
                >: {{ signed.sentence }}
              </p>
              <RevisionProof v-if="one.data.value.proof" :proof="one.data.value.proof" />
              <ChangeList :changes="one.data.value.changes" />
            </template>
          </StateBox>
        </section>
      </div>
    </StateBox>
  </div>
</template>

<style scoped>
.list {
  max-height: 75vh;
  overflow: auto;
}
.on td {
  background: var(--brass-wash);
}
h2 {
  font-size: 1rem;
}
.compare {
  display: flex;
  gap: 0.6rem;
  align-items: center;
  margin-bottom: 0.8rem;
}
.compare input {
  width: 6rem;
}
.wrong {
  color: var(--block);
}
</style>
