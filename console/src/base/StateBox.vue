<script setup lang="ts">
import { computed } from 'vue'

import { Problem } from '@/api/client'

/**
 * What stands where data would be: loading (a skeleton that keeps the layout), an error with its one next step,
 * or nothing to show with what to do first (slot `empty`).
 */
const props = defineProps<{ loading?: boolean; error?: Error | null; empty?: boolean; rows?: number }>()
defineEmits<{ retry: [] }>()

const title = computed(() => {
  if (!(props.error instanceof Problem)) return 'Something went wrong'
  if (props.error.status === 403) return 'This is not within your role'
  if (props.error.status === 404) return 'Not found'
  if (props.error.status === 0) return 'The service does not answer'
  return 'The service refuses this'
})
/** What it says beside its title, which it may begin with. */
const detail = computed(() => {
  const said = props.error?.message ?? ''
  return said.startsWith(title.value) ? said.slice(title.value.length).replace(/^[.\s]+/, '') : said
})
</script>

<template>
  <div v-if="error" class="box" role="alert">
    <Icon name="exclamation" class="sign" />
    <p class="title">{{ title }}</p>
    <p v-if="detail" class="sub">{{ detail }}</p>
    <BButton variant="light" @click="$emit('retry')">Try again</BButton>
  </div>
  <div v-else-if="loading" class="loading">
    <WorkingNote />
    <div class="skeleton" role="progressbar" aria-busy="true" aria-label="Loading">
      <BPlaceholder v-for="row in rows ?? 8" :key="row" :cols="row % 3 ? 9 : 7" />
    </div>
  </div>
  <div v-else-if="empty" class="box">
    <slot name="empty" />
  </div>
  <slot v-else />
</template>

<style scoped>
.box {
  text-align: center;
  padding: 2.5rem 1.5rem;
}
.box :deep(p) {
  margin-bottom: 0.5rem;
}
.sign {
  font-size: 1.4rem;
  color: var(--block);
}
.title {
  font-weight: 600;
}
.loading {
  padding: 1.1rem;
}
.skeleton {
  display: grid;
  gap: 1rem;
}
</style>
