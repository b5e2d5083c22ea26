<script setup lang="ts">
import { computed, ref } from 'vue'

import { type RestrictionDone, type RestrictionInForce, useLift } from './useRestrictions'

/** A button that restricts machines, and the receipts of those that are told; `lift` lifts a restriction again. */
defineProps<{ on?: readonly string[]; label?: string }>()
const asking = ref(false)
const shown = ref(false)
const putOn = ref<RestrictionDone>()
// not where its row is: that may be gone before the answer is here
const lifting = useLift()

/** What became of it, as soon as the service says so: what is shown beside may be read again later. */
const done = computed(() => putOn.value ?? lifting.data.value)

function tell(made: RestrictionDone) {
  putOn.value = made
  shown.value = true
}
function lift(one: RestrictionInForce) {
  putOn.value = undefined
  lifting.reset()
  shown.value = true
  lifting.mutate({ key: one.key, on: one.on })
}
defineExpose({ lift })
</script>

<template>
  <BButton v-needs:author variant="light" @click="asking = true">{{ label ?? 'Restrict…' }}</BButton>
  <RestrictionDialog v-model="asking" :on="on" @done="tell" />
  <PushReceipts
    v-model="shown"
    title="The machines are told"
    :push="done?.push?.id"
    :problem="done ? null : lifting.error.value"
  >
    <p v-if="done?.not_for_people" class="sub">
      Its site patterns are left out: browsers have them for everybody or for nobody.
    </p>
    <p v-for="one in done?.not_reached ?? []" :key="one.name" class="sub">{{ one.sentence }}</p>
    <p v-if="!done" class="dim">…</p>
    <p v-else-if="!done.push" class="sub mb-0">No machine that is meant has joined.</p>
  </PushReceipts>
</template>
