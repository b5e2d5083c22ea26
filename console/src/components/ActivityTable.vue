<script setup lang="ts">
import { BTableSimple, BTbody, BTd, BTh, BThead, BTr } from 'bootstrap-vue-next'

import type { Activity } from '../api/client'
import { shownAction } from '../composables/shownAction'
import ActionMark from './ActionMark.vue'
import MachineName from './MachineName.vue'
import PersonName from './PersonName.vue'
import RelativeTime from './RelativeTime.vue'

/** Reported attempts, newest first. On a machine's own page its column is left out. */
defineProps<{ items: Activity[]; machine?: boolean }>()
</script>

<template>
  <BTableSimple hover caption-top>
    <caption class="visually-hidden">
      Reported attempts
    </caption>
    <BThead>
      <BTr>
        <BTh>When</BTh><BTh v-if="machine">Machine</BTh><BTh>Person</BTh><BTh>Verdict</BTh><BTh>Host</BTh>
        <BTh>Because of</BTh><BTh>Reference</BTh>
      </BTr>
    </BThead>
    <BTbody>
      <BTr v-for="one in items" :key="`${one.device}/${one.seq}`">
        <BTd><RelativeTime :at="one.at" /></BTd>
        <BTd v-if="machine"><MachineName :id="one.device" :hostname="one.hostname" /></BTd>
        <BTd><PersonName :name="one.user" /></BTd>
        <BTd
          ><ActionMark :action="shownAction(one.verdict, one.logged)" /><span
            v-if="one.continued"
            class="dim small"
          >
            went on</span
          ></BTd
        >
        <BTd
          ><code class="host" :title="one.url">{{ one.host }}</code></BTd
        >
        <BTd class="sub"
          ><template v-if="one.winner">{{ one.winner.ruleset }} on {{ one.winner.target }}</template></BTd
        >
        <BTd
          ><code v-if="one.reference" class="text-nowrap">{{ one.reference }}</code></BTd
        >
      </BTr>
    </BTbody>
  </BTableSimple>
</template>

<style scoped>
.host {
  overflow-wrap: anywhere;
}
</style>
