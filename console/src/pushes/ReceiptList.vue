<script setup lang="ts">
import { useNow } from '@vueuse/core'
import { ref } from 'vue'

import { span } from '@/lib/words'
import { receiptStateValues } from '@/api/schema'
import { SHOWN } from './states'
import { type Receipt, usePush, useReceipts } from './usePushes'

/** How far machines are with a push, as they answer. */
const props = defineProps<{ push: string }>()
const { data: push } = usePush(() => props.push)
const state = ref<Receipt['state']>()
const receipts = useReceipts(() => props.push, state)
const STATES = [...receiptStateValues].reverse()

const now = useNow({ interval: 1000 })
function expected({ problem, expected_at: at }: Receipt) {
  if (problem) return problem
  if (!at) return '–'
  const seconds = (new Date(at).getTime() - now.value.getTime()) / 1000
  return seconds > 0 ? `in ${span(seconds)}` : `overdue for ${span(-seconds)}`
}
</script>

<template>
  <div>
    <p class="mb-2" role="status">{{ push?.sentence ?? '…' }}</p>
    <template v-if="push">
      <ShareBar :parts="STATES.map((key) => ({ key, number: push![key] ?? 0, tone: SHOWN[key].tone }))" />
      <div class="legend" role="group" aria-label="Only those that are">
        <BButton
          v-for="one in STATES"
          :key="one"
          variant="link"
          size="sm"
          :pressed="state === one"
          :disabled="!push[one]"
          @click="state = state === one ? undefined : one"
          ><b>{{ push[one] }}</b> <ReceiptMark :state="one"
        /></BButton>
      </div>
    </template>
    <StateBox
      :loading="receipts.isPending.value"
      :error="receipts.error.value"
      :empty="receipts.total.value === 0"
      :rows="3"
      @retry="receipts.refetch()"
    >
      <template #empty><p class="sub mb-0">No machine is so far.</p></template>
      <BTableSimple small hover caption-top class="mt-2">
        <caption class="visually-hidden">
          Receipts
        </caption>
        <BThead
          ><BTr
            ><BTh>Machine</BTh><BTh>State</BTh><BTh>Since</BTh><BTh>Last heard</BTh
            ><BTh>Expected next</BTh></BTr
          ></BThead
        >
        <BTbody>
          <BTr v-for="one in receipts.items.value" :key="one.device">
            <BTd><MachineName :id="one.device" :hostname="one.hostname" /></BTd>
            <BTd><ReceiptMark :state="one.state" /></BTd>
            <BTd
              ><RelativeTime
                v-if="one.told_at"
                :at="one.applied_at ?? one.fetched_at ?? one.told_at"
              /><template v-else>–</template></BTd
            >
            <BTd><RelativeTime :at="one.last_heard" /></BTd>
            <BTd class="sub">{{ expected(one) }}</BTd>
          </BTr>
        </BTbody>
      </BTableSimple>
      <BButton
        v-if="receipts.hasNextPage.value"
        variant="light"
        size="sm"
        :disabled="receipts.isFetchingNextPage.value"
        @click="receipts.fetchNextPage()"
        >More</BButton
      >
    </StateBox>
  </div>
</template>

<style scoped>
.legend {
  display: flex;
  flex-wrap: wrap;
  gap: 0.3rem;
  margin-top: 0.4rem;
}
</style>
