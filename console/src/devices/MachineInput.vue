<script setup lang="ts">
import { refDebounced } from '@vueuse/core'
import { computed, useId } from 'vue'

import { useDevices } from './useDevices'

/** A machine by its hostname or id; those whose names have what is written are offered. */
const props = defineProps<{ label: string; placeholder?: string; required?: boolean }>()
const machine = defineModel<string>({ required: true })
const id = useId()
const sought = refDebounced(machine, 200)
const { items: found } = useDevices(computed(() => ({ search: sought.value.trim() || undefined, limit: 8 })))
</script>

<template>
  <label>
    <span class="form-label">{{ props.label }}</span>
    <BFormInput
      v-model="machine"
      :list="id"
      :placeholder="placeholder ?? 'part of its name'"
      :required="required"
      autocomplete="off"
      maxlength="253"
    />
    <datalist :id="id">
      <option v-for="item in found ?? []" :key="item.id" :value="item.hostname" />
    </datalist>
  </label>
</template>
