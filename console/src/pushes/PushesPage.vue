<script setup lang="ts">
import { computed } from 'vue'
import { useRoute } from 'vue-router'

import { usePushes } from './usePushes'

/** The last pushes, one of them opened. */
const route = useRoute()
const { data, isPending, error, refetch } = usePushes()
const current = computed(() => String(route.params.push || data.value?.[0]?.id || ''))
</script>

<template>
  <div class="page">
    <RolloutTabs />
    <PageHead title="Pushes">
      <span>Machines that were told to ask at once, and what each answered.</span>
      <template #actions
        ><PushButton :machines="{ waiting: true }" to="all that wait for something"
      /></template>
    </PageHead>
    <StateBox :loading="isPending" :error="error" :empty="data?.length === 0" :rows="6" @retry="refetch()">
      <template #empty>
        <p class="mb-0"><b>Nothing has been pushed yet.</b></p>
        <p class="sub">
          Machines that hold a request hear of a change by themselves; a push tells them to ask now.
        </p>
      </template>
      <div class="list-and-detail">
        <section class="panel flush list">
          <BTableSimple hover caption-top>
            <caption class="visually-hidden">
              Pushes, newest first
            </caption>
            <BThead
              ><BTr><BTh>To</BTh><BTh>Machines</BTh></BTr></BThead
            >
            <BTbody>
              <BTr v-for="one in data" :key="one.id" :class="{ on: one.id === current }">
                <BTd>
                  <RouterLink
                    :to="{ name: 'pushes', params: { push: one.id } }"
                    :aria-current="one.id === current ? 'true' : undefined"
                    >{{ one.scope }}</RouterLink
                  >
                  <div class="small dim">
                    {{ one.by }}, <RelativeTime :at="one.at" /><template v-if="one.reason"
                      >: “{{ one.reason }}”</template
                    >
                  </div>
                </BTd>
                <BTd>{{ one.applied }} of {{ one.devices }}</BTd>
              </BTr>
            </BTbody>
          </BTableSimple>
        </section>
        <section class="panel detail"><ReceiptList v-if="current" :key="current" :push="current" /></section>
      </div>
    </StateBox>
  </div>
</template>
