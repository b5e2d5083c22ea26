<script setup lang="ts">
import { ref } from 'vue'

import type { Activity } from '@/api/client'
import { shownAction } from '@/lib/shownAction'

/** Reported attempts, newest first. On a machine's own page its column is left out. */
defineProps<{ items: Activity[]; machine?: boolean }>()
const correcting = ref(false)
const chosen = ref<Activity>()
function correct(one: Activity) {
  chosen.value = one
  correcting.value = true
}
</script>

<template>
  <BTableSimple hover caption-top>
    <caption class="visually-hidden">
      Reported attempts
    </caption>
    <BThead>
      <BTr>
        <BTh>When</BTh><BTh v-if="machine">Machine</BTh><BTh>Person</BTh><BTh>Verdict</BTh
        ><BTh>Host or program</BTh> <BTh>Because of</BTh><BTh>Reference</BTh
        ><BTh><span class="visually-hidden">Next step</span></BTh>
      </BTr>
    </BThead>
    <BTbody>
      <BTr v-for="item in items" :key="`${item.device}/${item.seq}`">
        <BTd><RelativeTime :at="item.at" /></BTd>
        <BTd v-if="machine"><MachineName :id="item.device" :hostname="item.hostname" /></BTd>
        <BTd><PersonName :name="item.user" /></BTd>
        <BTd
          ><ActionMark :action="shownAction(item.verdict, item.logged)" /><span
            v-if="item.continued"
            class="dim small"
          >
            went on</span
          ></BTd
        >
        <BTd
          ><ActivityProgram
            v-if="item.start"
            :start="item.start"
            :parent="item.parent"
            :running="item.running"
          /><template v-else
            ><RouterLink :to="{ name: 'find', query: { q: item.host } }" :title="item.url ?? undefined"
              ><code class="host">{{ item.host }}</code></RouterLink
            ><span v-if="item.test" class="dim small"> test host</span></template
          ></BTd
        >
        <BTd class="sub"
          ><template v-if="item.winner"
            >{{ item.winner.ruleset }} on {{ item.winner.target
            }}<span v-if="item.winner.feed" class="small">, from a feed</span></template
          ></BTd
        >
        <BTd
          ><code v-if="item.reference" class="text-nowrap">{{ item.reference }}</code></BTd
        >
        <BTd v-needs:author class="text-end"
          ><BButton
            v-if="item.host && !item.test"
            variant="link"
            class="p-0 small"
            :aria-label="`Correct… the categories of ${item.host}`"
            @click="correct(item)"
            >Correct…</BButton
          ></BTd
        >
      </BTr>
    </BTbody>
  </BTableSimple>
  <CorrectionDialog v-model="correcting" :host="chosen?.host ?? undefined" :categories="chosen?.categories" />
</template>

<style scoped>
.host {
  overflow-wrap: anywhere;
}
</style>
