<script setup lang="ts">
import { computed } from 'vue'

import type { Preview } from '@/api/client'

/** Verdicts that become another one: of what, on how many machines, when, by which rule. */
const props = defineProps<{ verdicts: Preview['verdicts'] }>()
const SHOWN = 40

const CHIPS = {
  released: 'released',
  softened: 'softened',
  recorded: 'recorded',
  unrecorded: 'recorded no more',
}
const chip = (effect: string) => CHIPS[effect as keyof typeof CHIPS]
const rows = computed(() => props.verdicts.slice(0, SHOWN))
</script>

<template>
  <BTableSimple small caption-top>
    <caption class="visually-hidden">
      Verdicts that change
    </caption>
    <BThead
      ><BTr
        ><BTh>What changes</BTh><BTh>Before</BTh><BTh><span class="visually-hidden">becomes</span></BTh
        ><BTh>After</BTh><BTh class="text-end">Machines</BTh><BTh>When</BTh><BTh>By</BTh></BTr
      ></BThead
    >
    <BTbody>
      <BTr v-for="(row, number) in rows" :key="number">
        <BTd class="what"
          ><b>{{ row.words }}</b
          ><template v-if="row.alike && !row.summed">
            and {{ row.alike.toLocaleString() }} more alike</template
          >{{ ' '
          }}<span v-if="chip(row.effect)" class="chip" :class="row.effect">{{ chip(row.effect) }}</span></BTd
        >
        <BTd><ActionMark :action="row.before" /></BTd>
        <BTd class="dim">→</BTd>
        <BTd><ActionMark :action="row.after" /></BTd>
        <BTd class="text-end">{{ row.devices.toLocaleString() }}</BTd>
        <BTd class="small">{{ row.when ?? 'always' }}</BTd>
        <BTd class="small sub">{{ row.by ?? 'no rule' }}</BTd>
      </BTr>
    </BTbody>
  </BTableSimple>
  <p v-if="verdicts.length > SHOWN" class="small dim">and {{ verdicts.length - SHOWN }} more</p>
</template>

<style scoped>
.what {
  overflow-wrap: anywhere;
}
.released {
  color: var(--allow);
  border-color: var(--allow);
}
.softened {
  color: var(--warn);
  border-color: var(--warn);
}
</style>
