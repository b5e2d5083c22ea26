<script setup lang="ts">
import { counted } from '@/lib/words'
import { evidenceFile, evidencePage, useEvidence, useNeverObserved } from './useObserved'
import { useProbedRules } from './useRuns'

/** For auditors: what was signed, how many rules have a probe, and which machines never tried one. */
const { items, isPending, error, refetch, hasNextPage, fetchNextPage } = useEvidence()
const { data: probed } = useProbedRules()
const { data: never } = useNeverObserved()
</script>

<template>
  <div class="page">
    <VerifyTabs />
    <PageHead title="Evidence">
      <span>Runs as signed documents, which are checked with no service.</span>
      <template #actions>
        <a class="btn btn-light" href="/api/v1/evidence/key" download="service.pem"
          >The key to check them by</a
        >
      </template>
    </PageHead>
    <div class="columns">
      <section class="panel flush" aria-label="Signed">
        <StateBox :loading="isPending" :error="error" :rows="4" :empty="!items?.length" @retry="refetch()">
          <template #empty>
            <p class="mb-0"><b>Nothing has been signed yet.</b></p>
            <p class="sub">
              Open a <RouterLink :to="{ name: 'runs' }">run</RouterLink> that has ended, and sign it.
            </p>
          </template>
          <BTableSimple hover caption-top>
            <caption class="visually-hidden">
              Evidence, newest first
            </caption>
            <BThead
              ><BTr
                ><BTh>Made</BTh><BTh>Run</BTh><BTh>What came of it</BTh
                ><BTh><span class="visually-hidden">Files</span></BTh></BTr
              ></BThead
            >
            <BTbody>
              <BTr v-for="one in items" :key="one.id">
                <BTd
                  ><RelativeTime :at="one.made_at" />
                  <div class="small dim">by {{ one.made_by }}</div></BTd
                >
                <BTd
                  ><RouterLink :to="{ name: 'runs', params: { run: one.run } }">Run {{ one.run }}</RouterLink>
                  <div class="small dim">{{ one.kind }}, revision {{ one.revision }}</div></BTd
                >
                <BTd
                  >{{ one.sentence }}
                  <div class="small dim digest" :title="`SHA-256 ${one.sha256}`">
                    SHA-256 {{ one.sha256.slice(0, 24) }}…
                  </div></BTd
                >
                <BTd class="files"
                  ><a :href="evidencePage(one.id)" target="_blank" rel="noopener">Read</a>
                  <a :href="evidenceFile(one.id)" download>Signed file</a></BTd
                >
              </BTr>
            </BTbody>
          </BTableSimple>
          <BButton v-if="hasNextPage" variant="light" class="m-3" @click="fetchNextPage()">Show more</BButton>
        </StateBox>
      </section>
      <div>
        <section class="panel" aria-label="Coverage">
          <h2>What is covered</h2>
          <p v-if="probed" class="mb-2">{{ probed.sentence }}</p>
          <p v-if="never" class="mb-0">{{ never.sentence }}</p>
        </section>
        <section v-if="never?.total" class="panel" aria-label="Never observed">
          <h2>{{ counted(never.total, 'machine') }} never observed</h2>
          <ul class="names small">
            <li v-for="name in never.items" :key="name">
              <RouterLink :to="{ name: 'device', params: { device: name } }">{{ name }}</RouterLink>
            </li>
          </ul>
          <p v-if="never.total > never.items.length" class="small dim mb-0">
            and {{ (never.total - never.items.length).toLocaleString() }} more
          </p>
        </section>
      </div>
    </div>
  </div>
</template>

<style scoped>
.page .columns {
  grid-template-columns: minmax(0, 1fr) 320px;
}
h2 {
  font-size: 1rem;
}
.digest {
  overflow-wrap: anywhere;
  font-family: 'JetBrains Mono', monospace;
}
.files {
  white-space: nowrap;
}
.files a + a {
  margin-left: 0.8rem;
}
.names a {
  display: inline-block;
  padding: 0.2rem 0;
}
.names {
  list-style: none;
  margin: 0;
  padding: 0;
  columns: 2;
}
</style>
