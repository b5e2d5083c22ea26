<script setup lang="ts">
import { ref } from 'vue'

/** A password to be: how long it has to be stands below, and it can be looked at while it is typed. */
defineProps<{ id: string }>()
const password = defineModel<string>({ required: true })
const shown = ref(false)
const LEAST = 15
</script>

<template>
  <input
    :id="id"
    v-model="password"
    class="form-control"
    :type="shown ? 'text' : 'password'"
    autocomplete="new-password"
    required
    :minlength="LEAST"
    maxlength="1000"
    :aria-describedby="`${id}-help`"
  />
  <div class="help">
    <span :id="`${id}-help`" class="small dim"
      >{{ LEAST }} letters or more; some words of your own will do.</span
    >
    <BFormCheckbox v-model="shown" class="small">Show it</BFormCheckbox>
  </div>
</template>

<style scoped>
.help {
  display: flex;
  justify-content: space-between;
  gap: 0.5rem;
  margin-top: 0.5rem;
}
</style>
