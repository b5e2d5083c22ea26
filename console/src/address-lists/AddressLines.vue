<script setup lang="ts">
import { useId } from 'vue'

import { firstColumn } from '@/lib/addressLines'

/** Addresses to paste or to read from a file: one a line, or the first column of CSV. */
defineProps<{ label: string; rows?: number; required?: boolean }>()
const text = defineModel<string>({ required: true })
const id = useId()
async function read(event: Event) {
  const input = event.target as HTMLInputElement
  const file = input.files?.[0]
  input.value = ''
  if (!file) return
  const found = await file.text()
  const lines = /\.csv$/i.test(file.name) ? firstColumn(found).join('\n') : found.trim()
  text.value = [text.value.trim(), lines].filter(Boolean).join('\n')
}
</script>

<template>
  <label class="form-label" :for="id">{{ label }}</label>
  <BFormTextarea
    :id="id"
    v-model="text"
    class="mono"
    :rows="rows ?? 8"
    :required="required"
    placeholder="tickets.example"
  />
  <label class="file small mt-1">
    Or from a file: one a line, or the first column of a .csv
    <input
      type="file"
      accept=".txt,.csv,text/plain,text/csv"
      class="form-control form-control-sm mt-1"
      @change="read"
    />
  </label>
</template>

<style scoped>
.file {
  display: block;
  color: var(--ink-2);
}
</style>
