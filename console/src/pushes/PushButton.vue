<script setup lang="ts">
import { ref } from 'vue'

import { type NewPush, useCreatePush } from './usePushes'

/** Tells machines to ask now for what is new, and shows their receipts as they answer. */
const props = defineProps<{ machines: NewPush; to: string; disabled?: boolean }>()
const shown = ref(false)
const create = useCreatePush()

function push() {
  create.reset()
  shown.value = true
  create.mutate(props.machines)
}
</script>

<template>
  <BButton v-needs:responder variant="light" :disabled="disabled" @click="push">Push now</BButton>
  <BModal v-model="shown" :title="`Push to ${to}`" title-tag="h2" no-footer size="lg" lazy>
    <p v-if="create.error.value" class="wrong" role="alert">
      <Icon name="exclamation" /> {{ create.error.value.message }}
    </p>
    <ReceiptList v-else-if="create.data.value" :push="create.data.value.id" />
    <p v-else class="dim">…</p>
  </BModal>
</template>

<style scoped>
.wrong {
  color: var(--block);
}
</style>
