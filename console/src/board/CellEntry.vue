<script setup lang="ts">
import type { Assignment } from '@/api/client'
import { useAssignment } from '@/assignments/useAssignments'
import type { BoardCell } from './useBoard'

/** One assignment of a cell: what it says in words, and what can be done to it. */
const props = defineProps<{ cell: BoardCell }>()
defineEmits<{ edit: [one: Assignment]; turn: [one: Assignment]; drop: [one: Assignment] }>()
const { data, isPending, error, refetch } = useAssignment(() => props.cell.assignment)
</script>

<template>
  <section>
    <StateBox :loading="isPending" :error="error" :rows="2" @retry="refetch()">
      <template v-if="data">
        <p class="mb-1"><BoardMarks :cell="cell" /> {{ data.sentence }}</p>
        <p v-if="cell.observed" class="mb-1 small">
          <RouterLink :to="{ name: 'runs', params: { run: cell.observed.run } }"
            >Observed <RelativeTime :at="cell.observed.at" /></RouterLink
          >: {{ cell.observed.sentence }}
        </p>
        <div v-needs:author>
          <BButton variant="light" @click="$emit('edit', data)">Change…</BButton>{{ ' ' }}
          <BButton variant="light" @click="$emit('turn', data)">{{
            data.state === 'active' ? 'Pause…' : 'Put in force…'
          }}</BButton>{{ ' ' }}
          <BButton variant="light" @click="$emit('drop', data)">Remove…</BButton>
        </div>
      </template>
    </StateBox>
  </section>
</template>
