<script setup lang="ts">
import { computed, ref } from 'vue'

import { useGroups } from '@/groups/useGroups'
import { counted } from '@/lib/words'
import { type ApplicationCondition, fetchStarted } from './useApplicationSets'

/** Draws conditions up from what was started on a group's machines: they go into the draft, to be looked at there. */
const emit = defineEmits<{ found: [conditions: ApplicationCondition[]] }>()
const { data: groups } = useGroups()
const choices = computed(() => [
  { value: '', text: 'Choose a group' },
  ...(groups.value ?? []).map(({ key }) => ({ value: key, text: key })),
])
const group = ref('')
const days = ref('14')
const said = ref('')
const problem = ref('')
async function draw() {
  said.value = problem.value = ''
  try {
    const found = await fetchStarted(group.value, Number(days.value))
    emit(
      'found',
      found.map(({ condition }) => condition),
    )
    said.value = found.length
      ? `${counted(found.length, 'program')} started there: the conditions above hold them`
      : 'No machine of the group tells of a start'
  } catch (error) {
    problem.value = (error as Error).message
  }
}
</script>

<template>
  <section class="panel" aria-label="From what was started">
    <h2>Only what is used</h2>
    <form class="drawing" @submit.prevent="draw">
      <span>Take in what was started on</span>
      <BFormSelect v-model="group" class="short" aria-label="Group whose starts count" :options="choices" />
      <span>in the last</span>
      <BFormInput v-model="days" class="days" type="number" min="0" max="365" aria-label="Days of starts" />
      <span>days</span>
      <BButton type="submit" variant="light" :disabled="!group">Draw up</BButton>
    </form>
    <p v-if="said" class="small sub mt-2 mb-0" role="status">{{ said }}</p>
    <p v-if="problem" class="wrong mt-2 mb-0" role="alert">{{ problem }}</p>
  </section>
</template>

<style scoped>
.drawing {
  display: flex;
  flex-wrap: wrap;
  align-items: center;
  gap: 0.5rem;
}
.short {
  width: auto;
}
.days {
  width: 5rem;
}
.wrong {
  color: var(--block);
}
</style>
