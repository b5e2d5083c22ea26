<script setup lang="ts">
import { ref } from 'vue'

import { type NewPush, useCreatePush } from './usePushes'

/** Tells machines to ask now for what is new, and shows their receipts as they answer. */
const props = defineProps<{ machines: NewPush; to: string; disabled?: boolean }>()
// two roots: a class is meant for the button
defineOptions({ inheritAttrs: false })
const shown = ref(false)
const create = useCreatePush()

function push() {
  create.reset()
  shown.value = true
  create.mutate(props.machines)
}
</script>

<template>
  <BButton v-needs:responder v-bind="$attrs" variant="light" :disabled="disabled" @click="push"
    >Push now</BButton
  >
  <PushReceipts
    v-model="shown"
    :title="`Push to ${to}`"
    :push="create.data.value?.id"
    :problem="create.error.value"
  />
</template>
