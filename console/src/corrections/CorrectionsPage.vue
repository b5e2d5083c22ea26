<script setup lang="ts">
import { refDebounced } from '@vueuse/core'
import { useRouteQuery } from '@vueuse/router'
import { ref } from 'vue'

import { type Correction, useCorrections, useRemoveCorrection } from './useCorrections'

/** Hosts whose categories are seen otherwise here than in feeds: by whom, why, and as a file for a feed's keeper. */
const find = useRouteQuery<string>('find', '')
const corrections = useCorrections(refDebounced(find, 200))
const remove = useRemoveCorrection()
const shown = ref(false)
const chosen = ref<Correction>()
function edit(one?: Correction) {
  chosen.value = one
  shown.value = true
}
</script>

<template>
  <div class="page">
    <ControlTabs />
    <PageHead title="Corrections">
      <template #actions>
        <a class="btn btn-light" href="/api/v1/corrections.csv" download="corrections.csv"
          >For feeds’ keepers (CSV)</a
        >
        <BButton v-needs:author variant="light" @click="edit()"><Icon name="plus" /> Correct a host…</BButton>
      </template>
      <span>What the organisation says of hosts, in place of what feeds say. Each can be taken back.</span>
    </PageHead>
    <section class="panel flush mt-3" aria-label="Corrections">
      <BFormInput
        v-model="find"
        type="search"
        class="seek"
        placeholder="Find a correction"
        aria-label="Find a correction"
      />
      <StateBox
        :loading="corrections.isPending.value"
        :error="corrections.error.value"
        :empty="corrections.total.value === 0"
        @retry="corrections.refetch()"
      >
        <template #empty
          ><p class="sub mb-0">
            {{
              find
                ? 'Nothing matches.'
                : 'Nothing is corrected. Where a feed is wrong about a host, say so here.'
            }}
          </p></template
        >
        <BTableSimple caption-top>
          <caption class="visually-hidden">
            Corrections
          </caption>
          <BThead
            ><BTr
              ><BTh>Host</BTh><BTh>Here</BTh><BTh>Feeds say</BTh><BTh>By</BTh><BTh>When</BTh><BTh>Why</BTh
              ><BTh><span class="visually-hidden">Next step</span></BTh></BTr
            ></BThead
          >
          <BTbody>
            <BTr v-for="item in corrections.items.value" :key="item.host">
              <BTd
                ><RouterLink :to="{ name: 'find', query: { q: item.host } }"
                  ><code>{{ item.host }}</code></RouterLink
                ></BTd
              >
              <BTd>{{ item.categories.join(', ') }}</BTd>
              <BTd class="sub">{{ item.feeds_say.join(', ') || 'nothing' }}</BTd>
              <BTd>{{ item.by }}</BTd>
              <BTd><RelativeTime :at="item.at" /></BTd>
              <BTd class="sub">{{ item.reason }}</BTd>
              <BTd class="text-end text-nowrap">
                <span v-needs:author>
                  <BButton variant="link" class="p-0" :aria-label="`Edit ${item.host}`" @click="edit(item)"
                    >Edit</BButton
                  >
                  <BButton
                    variant="link"
                    class="p-0 ms-3"
                    :aria-label="`Take back ${item.host}`"
                    @click="
                      remove.plan(
                        { host: item.host, version: item.version },
                        { title: `correction of ${item.host} taken back` },
                      )
                    "
                    >Take back</BButton
                  >
                </span>
              </BTd>
            </BTr>
          </BTbody>
        </BTableSimple>
      </StateBox>
    </section>
    <p v-if="remove.error.value" class="wrong mt-2" role="alert">{{ remove.error.value.message }}</p>
    <div v-if="corrections.hasNextPage.value" class="text-center mt-3">
      <BButton variant="light" @click="corrections.fetchNextPage()">Show 100 more</BButton>
    </div>
    <CorrectionDialog
      v-model="shown"
      :host="chosen?.host"
      :categories="chosen?.categories"
      :reason="chosen?.reason"
      :version="chosen?.version"
    />
  </div>
</template>

<style scoped>
.wrong {
  color: var(--block);
}
</style>
