<script setup lang="ts">
/** The receipts of a push, in a dialog, as machines answer; or why there is none. */
defineProps<{ title: string; push?: string; problem?: Error | null }>()
const shown = defineModel<boolean>({ required: true })
</script>

<template>
  <BModal v-model="shown" :title="title" title-tag="h2" no-footer size="lg" lazy>
    <p v-if="problem" class="wrong" role="alert"><Icon name="exclamation" /> {{ problem.message }}</p>
    <template v-else>
      <slot />
      <ReceiptList v-if="push" :push="push" />
      <p v-else-if="!$slots.default" class="dim">…</p>
    </template>
  </BModal>
</template>

<style scoped>
.wrong {
  color: var(--block);
}
</style>
