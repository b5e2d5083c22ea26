<script setup lang="ts">
import { computed, ref } from 'vue'

import { type CleanUpReason, useCleanable, useCleanUp } from './useIndicators'

/** Indicators that can go without any verdict becoming another one. */
const shown = defineModel<boolean>({ required: true })
const { data, isPending, error, refetch } = useCleanable(shown)
const cleanUp = useCleanUp()
const because = ref<CleanUpReason[]>(['ended', 'duplicate', 'overshadowed'])
const REASONS: { value: CleanUpReason; text: string }[] = [
  { value: 'ended', text: 'ended' },
  { value: 'duplicate', text: 'said twice on the same machines' },
  { value: 'overshadowed', text: 'within a wider one that says the same' },
]
const items = computed(() => (data.value?.items ?? []).filter(({ reason }) => because.value.includes(reason)))
const number = computed(() => because.value.reduce((sum, reason) => sum + (data.value?.[reason] ?? 0), 0))
function go() {
  cleanUp.plan(
    { because: because.value },
    { title: `clean-up of ${number.value} indicators`, onSuccess: () => (shown.value = false) },
  )
}
</script>

<template>
  <FormDialog
    v-model="shown"
    lazy
    title="Clean up indicators"
    size="lg"
    :does="`Take ${number.toLocaleString()} out…`"
    :error="cleanUp.error.value"
    :disabled="!number || cleanUp.isPending.value"
    @submit="go"
  >
    <StateBox :loading="isPending" :error="error" :rows="4" @retry="refetch()">
      <template v-if="data">
        <p class="sub">
          These can go without any verdict becoming another one.
          <template v-if="data.from_feeds"
            >{{ data.from_feeds.toLocaleString() }} such from feeds are left to them.</template
          >
        </p>
        <BFormCheckbox v-for="reason in REASONS" :key="reason.value" v-model="because" :value="reason.value"
          >{{ data[reason.value]?.toLocaleString() }} {{ reason.text }}</BFormCheckbox
        >
        <BTableSimple v-if="items.length" class="mt-3" caption-top>
          <caption class="visually-hidden">
            What can go
          </caption>
          <BThead
            ><BTr><BTh>Names</BTh><BTh>Ruleset</BTh><BTh>Why</BTh></BTr></BThead
          >
          <BTbody>
            <BTr v-for="one in items.slice(0, 12)" :key="`${one.ruleset}/${one.number}`">
              <BTd
                ><code>{{ one.selector }}</code></BTd
              >
              <BTd>{{ one.ruleset }}</BTd>
              <BTd class="sub"
                >{{ one.reason }}<template v-if="one.by"> by {{ one.by }}</template></BTd
              >
            </BTr>
          </BTbody>
        </BTableSimple>
        <p v-if="number > 12" class="small dim">and {{ (number - 12).toLocaleString() }} more</p>
      </template>
    </StateBox>
  </FormDialog>
</template>
