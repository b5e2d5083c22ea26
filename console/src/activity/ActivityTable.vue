<script setup lang="ts">
import { ref } from 'vue'

import { useSession } from '@/access/useSession'
import type { Activity } from '@/api/client'
import { shownAction } from '@/lib/shownAction'

/** Reported attempts, newest first. On a machine's own page its column is left out. */
defineProps<{ items: Activity[]; machine?: boolean }>()
const { mayAuthor } = useSession()
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
        <BTh>When</BTh><BTh v-if="machine">Machine</BTh><BTh>Person</BTh><BTh>Verdict</BTh><BTh>Host</BTh>
        <BTh>Because of</BTh><BTh>Reference</BTh
        ><BTh v-if="mayAuthor"><span class="visually-hidden">Next step</span></BTh>
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
          ><RouterLink :to="{ name: 'find', query: { q: one.host } }" :title="one.url"
            ><code class="host">{{ one.host }}</code></RouterLink
          ><span v-if="one.test" class="dim small"> test host</span></BTd
        >
        <BTd class="sub"
          ><template v-if="one.winner"
            >{{ one.winner.ruleset }} on {{ one.winner.target
            }}<span v-if="one.winner.feed" class="small">, from a feed</span></template
          ></BTd
        >
        <BTd
          ><code v-if="one.reference" class="text-nowrap">{{ one.reference }}</code></BTd
        >
        <BTd v-if="mayAuthor" class="text-end"
          ><BButton
            v-if="!one.test"
            variant="link"
            class="p-0 small"
            :aria-label="`Correct… the categories of ${one.host}`"
            @click="correct(one)"
            >Correct…</BButton
          ></BTd
        >
      </BTr>
    </BTbody>
  </BTableSimple>
  <CorrectionDialog v-model="correcting" :host="chosen?.host" :categories="chosen?.categories" />
</template>

<style scoped>
.host {
  overflow-wrap: anywhere;
}
</style>
