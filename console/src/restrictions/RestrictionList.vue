<script setup lang="ts">
import type { RestrictionInForce } from './useRestrictions'

/** What is restricted now, and one button that lifts it. */
defineProps<{ items: readonly RestrictionInForce[] }>()
defineEmits<{ lift: [one: RestrictionInForce] }>()
const blocks = (one: RestrictionInForce) =>
  [
    ...(one.no_web ? ['no web at all'] : []),
    ...one.what,
    ...(one.browsers?.length ? [`starts of ${one.browsers.join(', ')}`] : []),
  ].join(', ')
</script>

<template>
  <BTableSimple hover caption-top>
    <caption class="visually-hidden">
      Restrictions
    </caption>
    <BThead
      ><BTr
        ><BTh>Restriction</BTh><BTh>Blocks</BTh><BTh>On</BTh><BTh>Until</BTh><BTh>By</BTh
        ><BTh><span class="visually-hidden">Next step</span></BTh></BTr
      ></BThead
    >
    <BTbody>
      <BTr v-for="one in items" :key="one.assignments[0]">
        <BTd
          ><b>{{ one.key }}</b>
          <div class="small dim">{{ one.reason }}</div></BTd
        >
        <BTd class="blocks">{{ blocks(one) }}</BTd>
        <BTd
          >{{ one.on.slice(0, 6).join(', ')
          }}<template v-if="one.on.length > 6"> and {{ one.on.length - 6 }} more</template>
          <div v-if="one.people?.length" class="small dim">for {{ one.people.join(', ') }}</div></BTd
        >
        <BTd
          ><MomentText :at="one.until" />
          <div v-if="one.until_restart" class="small dim">or as it restarts</div></BTd
        >
        <BTd><PersonName :name="one.by" /></BTd>
        <BTd class="text-end"
          ><BButton
            v-needs:author
            variant="light"
            size="sm"
            :aria-label="`Lift ${one.key} on ${one.on[0]}`"
            @click="$emit('lift', one)"
            >Lift</BButton
          ></BTd
        >
      </BTr>
    </BTbody>
  </BTableSimple>
</template>

<style scoped>
.blocks {
  overflow-wrap: anywhere;
}
</style>
