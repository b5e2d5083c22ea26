<script setup lang="ts">
import type { Observation } from './useObserved'

/** What machines saw, beside what was predicted: by machine, or of one machine by probe. */
defineProps<{ seen: Observation[]; by: 'machine' | 'probe' }>()
</script>

<template>
  <BTableSimple caption-top small>
    <caption class="visually-hidden">
      What was seen, beside what was predicted
    </caption>
    <BThead
      ><BTr
        ><BTh>{{ by === 'machine' ? 'Machine' : 'Probe' }}</BTh
        ><BTh>When</BTh><BTh>Predicted</BTh><BTh>Observed</BTh><BTh>What was seen</BTh></BTr
      ></BThead
    >
    <BTbody>
      <BTr v-for="one in seen" :key="`${one.device}/${one.set}/${one.number}`">
        <BTd v-if="by === 'machine'" class="machine"
          ><RouterLink :to="{ name: 'device', params: { device: one.device } }">{{
            one.hostname
          }}</RouterLink></BTd
        >
        <BTd v-else
          ><RouterLink :to="{ name: 'runs', params: { run: one.run } }"
            >{{ one.set }} {{ one.number }}</RouterLink
          >
          <div class="small dim tried">
            {{ one.tried }}<template v-if="one.how">, {{ one.how }}</template>
          </div></BTd
        >
        <BTd><RelativeTime :at="one.at" /></BTd>
        <BTd
          ><ActionMark v-if="one.predicted" :action="one.predicted" /><span v-else class="dim">–</span></BTd
        >
        <BTd
          ><ActionMark v-if="one.seen.verdict" :action="one.seen.verdict" /><span v-else class="dim"
            >not tried</span
          ></BTd
        >
        <BTd
          ><StateMark v-if="one.agrees === false" tone="bad" icon="exclamationFill" state="otherwise" />
          {{ one.sentence }}
          <div v-if="one.has_picture" class="small">
            <a
              :href="`/api/v1/runs/${one.run}/observations/${one.device}/${one.set}/${one.number}/picture`"
              target="_blank"
              rel="noopener"
              >Picture</a
            >
          </div>
          <div v-if="one.agrees === false" class="small">
            <a
              :href="`/api/v1/runs/${one.run}/observations/${one.device}/${one.set}/${one.number}/case`"
              :download="`case-${one.hostname}-${one.set}-${one.number}.json`"
              >Take the case along</a
            >
          </div></BTd
        >
      </BTr>
    </BTbody>
  </BTableSimple>
</template>

<style scoped>
.machine {
  white-space: nowrap;
}
.tried {
  overflow-wrap: anywhere;
}
</style>
