<script setup lang="ts">
/** A page of Controls, or of other tabs: what there is at the left, the chosen one's editor beside it. */
defineProps<{ title: string; noun: string; loading: boolean; error: Error | null }>()
defineEmits<{ make: []; retry: [] }>()
</script>

<template>
  <div class="page">
    <slot name="tabs"><ControlTabs /></slot>
    <PageHead :title="title">
      <template #actions>
        <slot name="actions" />
        <BButton v-needs:author variant="light" @click="$emit('make')"
          ><Icon name="plus" /> New {{ noun }}</BButton
        >
      </template>
      <slot name="about" />
    </PageHead>
    <StateBox :loading="loading" :error="error" @retry="$emit('retry')">
      <div class="columns"><slot name="list" /><slot /></div>
    </StateBox>
  </div>
</template>
