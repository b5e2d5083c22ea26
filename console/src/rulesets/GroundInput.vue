<script setup lang="ts">
import { useId } from 'vue'

import { useGrounds } from '@/categories/useTaxonomy'

/** Why a ruleset is there: one of the usual grounds, or words of one's own. */
defineProps<{ disabled?: boolean }>()
const ground = defineModel<string>({ required: true })
const id = useId()
const grounds = useGrounds()
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
    <datalist :id="`${id}-list`"><option v-for="word in grounds" :key="word" :value="word" /></datalist>
  </div>
</template>
