<script setup lang="ts">
import type { Differing } from './useCompared'

/** In what two machines, or one now and earlier, differ; and which difference decides by itself. */
defineProps<{ differing: Differing[]; first: string; second: string }>()
</script>

<template>
  <BTableSimple v-if="differing.length" class="mt-3" caption-top>
    <caption>
      In what they differ
    </caption>
    <BThead
      ><BTr
        ><BTh>What</BTh><BTh>{{ first }}</BTh
        ><BTh>{{ second }}</BTh
        ><BTh>By itself</BTh></BTr
      ></BThead
    >
    <BTbody>
      <BTr v-for="one in differing" :key="one.what">
        <BTd>{{ one.what }}</BTd><BTd>{{ one.first }}</BTd
        ><BTd>{{ one.second }}</BTd>
        <BTd><b v-if="one.decides">decides</b><span v-else class="dim">does not decide</span></BTd>
      </BTr>
    </BTbody>
  </BTableSimple>
</template>
