<script setup lang="ts">
import { useId } from 'vue'

import { GROUNDS } from './grounds'

/** Why a ruleset is there: one of the usual grounds, or words of one's own. */
defineProps<{ disabled?: boolean }>()
const ground = defineModel<string>({ required: true })
const id = useId()
</script>

<template>
  <div>
    <label class="form-label" :for="id">Ground</label>
    <BFormInput
      :id="id"
      v-model="ground"
      :list="`${id}-list`"
      maxlength="60"
      placeholder="why it is there"
      :disabled="disabled"
    />
    <datalist :id="`${id}-list`"><option v-for="word in GROUNDS" :key="word" :value="word" /></datalist>
  </div>
</template>
