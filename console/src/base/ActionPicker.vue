<script setup lang="ts">
import { actionValues } from '@/api/schema'
import type { Action } from '@/api/client'

/** Choose an action for something, or none. A group of radio buttons: arrow keys move, as everywhere. */
defineProps<{ name: string; label: string; disabled?: boolean }>()
const chosen = defineModel<Action | null>({ required: true })
</script>

<template>
  <fieldset class="picker" :disabled="disabled">
    <legend class="visually-hidden">{{ label }}</legend>
    <label class="choice" :class="{ on: chosen === null }">
      <input v-model="chosen" type="radio" :name="name" :value="null" class="visually-hidden" />
      <span class="none">none</span>
    </label>
    <label v-for="action in actionValues" :key="action" class="choice" :class="{ on: chosen === action }">
      <input
        v-model="chosen"
        type="radio"
        :name="name"
        :value="action"
        class="visually-hidden"
        :aria-label="action"
      />
      <ActionMark :action="action" :bare="chosen !== action" aria-hidden="true" />
    </label>
  </fieldset>
</template>

<style scoped>
.picker {
  display: inline-flex;
  gap: 0.15rem;
  border: 1px solid var(--line);
  border-radius: 0.4rem;
  padding: 0.1rem;
  background: var(--card);
}
.choice {
  border-radius: 0.3rem;
  cursor: pointer;
  min-height: 24px;
  display: inline-flex;
  align-items: center;
}
.choice:not(.on) :deep(.action) {
  background: none;
  color: var(--ink-3);
}
.choice:has(:focus-visible) {
  outline: 2px solid var(--brass-2);
  outline-offset: 1px;
}
.picker:disabled .choice {
  cursor: default;
}
.none {
  font-size: 0.8125rem;
  padding: 0.05rem 0.4rem;
  color: var(--ink-3);
  border-radius: 0.3rem;
}
.on .none {
  background: var(--wash);
  color: var(--ink-2);
}
</style>
