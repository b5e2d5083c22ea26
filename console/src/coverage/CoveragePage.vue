<script setup lang="ts">
import { ref } from 'vue'

import type { CoverageRow } from '@/api/client'
import { useCoverage, useResetCoverage } from './useCoverage'

const { data: rows, isPending, error, refetch } = useCoverage()
const back = useResetCoverage()
const editing = ref(false)
const chosen = ref<CoverageRow>()

function edit(row?: CoverageRow) {
  chosen.value = row
  editing.value = true
}
const named = (row: CoverageRow) => `${row.control}, ${row.browser} on ${row.platform}`
</script>

<template>
  <div class="page">
    <FleetTabs />
    <PageHead title="Coverage">
      <template #actions>
        <BButton v-needs:author variant="light" @click="edit()"><Icon name="plus" /> Add a row…</BButton>
      </template>
      <span
        >Which control reaches which browser on which platform: what is known, since when, and from
        whom.</span
      >
    </PageHead>
    <div class="panel flush mt-3">
      <StateBox :loading="isPending" :error="error" @retry="refetch()">
        <BTableSimple hover caption-top>
          <caption class="visually-hidden">
            The coverage table
          </caption>
          <BThead
            ><BTr
              ><BTh>Control</BTh><BTh>Browser</BTh><BTh>Platform</BTh><BTh>http</BTh><BTh>https</BTh
              ><BTh>Browser from</BTh><BTh>Layer from</BTh><BTh>Platform from</BTh><BTh>As of</BTh
              ><BTh>Source</BTh><BTh><span class="visually-hidden">Next step</span></BTh></BTr
            ></BThead
          >
          <BTbody>
            <BTr v-for="row in rows" :key="named(row)">
              <BTd>{{ row.control }}</BTd>
              <BTd :class="{ dim: row.browser === 'any' }">{{ row.browser }}</BTd>
              <BTd :class="{ dim: row.platform === 'any' }">{{ row.platform }}</BTd>
              <BTd :class="`reach-${row.http}`">{{ row.http }}</BTd>
              <BTd :class="`reach-${row.https}`">{{ row.https }}</BTd>
              <BTd>{{ row.browser_from ?? '–' }}</BTd>
              <BTd>{{ row.layer_from ?? '–' }}</BTd>
              <BTd>{{ row.platform_from ?? '–' }}</BTd>
              <BTd class="text-nowrap">{{ row.date }}</BTd>
              <BTd class="sub"
                >{{ row.source }}<b v-if="!row.shipped"> · edited here</b>
                <div v-if="row.passed_by.length" class="small">
                  Passed by: {{ row.passed_by.join('; ') }}
                </div></BTd
              >
              <BTd class="text-end text-nowrap">
                <span v-needs:author>
                  <BButton variant="link" :aria-label="`Edit ${named(row)}`" @click="edit(row)">Edit</BButton>
                  <BButton
                    v-if="!row.shipped"
                    variant="link"
                    :aria-label="`Take out ${named(row)}`"
                    @click="back.plan(row, { title: 'coverage row as shipped' })"
                    >Take out</BButton
                  >
                </span>
              </BTd>
            </BTr>
          </BTbody>
        </BTableSimple>
      </StateBox>
    </div>
    <p class="small dim mt-2">
      page: the whole address is seen and a notice shows in its place · host: only the host is seen · none:
      visits pass by
    </p>
    <CoverageDialog v-model="editing" :row="chosen" />
  </div>
</template>

<style scoped>
.reach-none {
  color: var(--block);
  font-weight: 600;
}
.reach-host {
  color: var(--warn);
}
.reach-page {
  color: var(--allow);
}
</style>
