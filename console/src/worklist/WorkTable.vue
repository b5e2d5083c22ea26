<script setup lang="ts">
import { computed, ref } from 'vue'

import { useWorklist } from './useWorklist'

/** What needs a decision, most urgent first, each with its one next step. */
const { data, isPending, error, refetch } = useWorklist()
const FIRST = 8
const all = ref(false)
const items = computed(() => data.value?.items.slice(0, all.value ? undefined : FIRST) ?? [])
</script>

<template>
  <section class="panel flush" aria-labelledby="work">
    <h2 id="work" class="inner">What needs a decision, most urgent first</h2>
    <StateBox :loading="isPending" :error="error" :empty="items.length === 0" :rows="6" @retry="refetch()">
      <template #empty
        ><p class="mb-0">Nothing: all that was meant holds, and nothing ends this week.</p></template
      >
      <BTableSimple hover caption-top>
        <caption class="visually-hidden">
          What needs a decision, with its next step
        </caption>
        <BThead
          ><BTr><BTh>Severity</BTh><BTh>What</BTh><BTh>Next step</BTh></BTr></BThead
        >
        <BTbody>
          <BTr v-for="(item, number) in items" :key="number">
            <BTd><SeverityMark :severity="item.severity" /></BTd>
            <BTd class="what"
              >{{ item.sentence }} <span class="small dim">{{ item.kind }}</span></BTd
            >
            <BTd
              ><RouterLink :to="item.link">{{ item.next }}</RouterLink></BTd
            >
          </BTr>
        </BTbody>
      </BTableSimple>
      <BButton v-if="data && data.items.length > FIRST" variant="link" class="more" @click="all = !all">{{
        all ? 'Only the most urgent' : `${data.items.length - FIRST} more`
      }}</BButton>
    </StateBox>
  </section>
</template>

<style scoped>
.more {
  margin: 0 0.8rem 0.4rem;
}
.what {
  overflow-wrap: anywhere;
}
</style>
