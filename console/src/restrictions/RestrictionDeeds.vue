<script setup lang="ts">
import { ref } from 'vue'

import { type RestrictionDone, type RestrictionInForce, useLift } from './useRestrictions'

/** A button that restricts machines, and the receipts of those that are told; `lift` lifts a restriction again. */
defineProps<{ on?: readonly string[]; label?: string }>()
const asking = ref(false)
const shown = ref(false)
const done = ref<RestrictionDone>()
// not where its row is: that may be gone before the answer is here
const lifting = useLift()

function tell(made: RestrictionDone) {
  done.value = made
  shown.value = true
}
function lift(one: RestrictionInForce) {
  done.value = undefined
  shown.value = true
  lifting.mutate({ key: one.key, on: one.on }, { onSuccess: tell })
}
defineExpose({ lift })
</script>

<template>
  <BButton v-needs:author variant="light" @click="asking = true">{{ label ?? 'Restrict…' }}</BButton>
  <RestrictionDialog v-model="asking" :on="on" @done="tell" />
  <BModal v-model="shown" title="The machines are told" title-tag="h2" no-footer size="lg" lazy>
    <p v-if="lifting.error.value && !done" class="wrong" role="alert">
      <Icon name="exclamation" /> {{ lifting.error.value.message }}
    </p>
    <template v-else-if="done">
      <p v-if="done.not_for_people" class="sub">
        Its site patterns are left out: browsers have them for everybody or for nobody.
      </p>
      <ReceiptList v-if="done.push" :push="done.push.id" />
      <p v-else class="sub mb-0">No machine that is meant has joined.</p>
    </template>
    <p v-else class="dim">…</p>
  </BModal>
</template>

<style scoped>
.wrong {
  color: var(--block);
}
</style>
