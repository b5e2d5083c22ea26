<script setup lang="ts">
/** The head of every page: where one is, its title, a line of facts, and its actions at the right. */
defineProps<{ title: string }>()
</script>

<template>
  <header class="head">
    <nav v-if="$slots.crumbs" class="small dim" aria-label="Breadcrumb"><slot name="crumbs" /></nav>
    <div class="line">
      <h1>{{ title }}</h1>
      <slot name="marks" />
      <div class="actions"><slot name="actions" /></div>
    </div>
    <div v-if="$slots.default" class="sub facts"><slot /></div>
  </header>
</template>

<style scoped>
.line {
  display: flex;
  align-items: center;
  gap: 0.75rem;
  min-height: 2.2rem;
}
.actions {
  margin-left: auto;
  display: flex;
  gap: 0.5rem;
}
.facts {
  display: flex;
  flex-wrap: wrap;
  gap: 0.2rem 1.6rem;
  margin-top: 0.3rem;
}
.facts :deep(b) {
  font-weight: 550;
  color: var(--ink);
}
</style>
