<script setup lang="ts">
import { BButton } from 'bootstrap-vue-next'
import { computed } from 'vue'

import { Problem } from '../api/client'
import Icon from './Icon.vue'

/** Why saving failed. Where somebody else saved first: theirs beside what is edited here, and the choice between. */
const props = defineProps<{ problem: Error | null | undefined; theirs?: string }>()
defineEmits<{ take: []; keep: [] }>()
const conflict = computed(() => props.problem instanceof Problem && props.problem.status === 412)
</script>

<template>
  <div v-if="problem" class="wrong" role="alert">
    <p><Icon name="exclamation" /> {{ problem.message }}</p>
    <template v-if="conflict">
      <p v-if="theirs"><b>Theirs:</b> {{ theirs }}</p>
      <BButton variant="light" @click="$emit('take')">Take theirs</BButton>
      <BButton variant="light" @click="$emit('keep')">Put mine over it</BButton>
    </template>
  </div>
</template>

<style scoped>
.wrong {
  color: var(--block);
  margin-top: 0.6rem;
}
p {
  margin-bottom: 0.4rem;
}
</style>
