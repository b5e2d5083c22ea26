<script setup lang="ts">
import { useAssignments, useRemoveAssignment, useSetState } from '@/assignments/useAssignments'
import type { BoardCell } from './useBoard'

/** What is assigned where a ruleset and a group meet: changed, paused or removed in place. */
defineProps<{
  cell?: { ruleset: string; target: string; cells: BoardCell[] }
}>()
const shown = defineModel<boolean>({ required: true })
const emit = defineEmits<{ edit: [assignment?: string] }>()
const { data: assignments } = useAssignments()
const setState = useSetState()
const remove = useRemoveAssignment()
const close = () => (shown.value = false)

function turn(key: string) {
  const assignment = assignments.value?.find((one) => one.key === key)
  if (!assignment) return
  const state = assignment.state === 'active' ? 'paused' : 'active'
  setState.plan(
    { assignment, state },
    { title: state === 'active' ? `${key} in force` : `${key} paused`, onSuccess: close },
  )
}
function drop(key: string) {
  const assignment = assignments.value?.find((one) => one.key === key)
  if (assignment) remove.plan(assignment, { title: `remove ${key}`, onSuccess: close })
}
</script>

<template>
  <BModal v-model="shown" :title="cell ? `${cell.ruleset} on ${cell.target}` : ''" title-tag="h2" no-footer>
    <p v-if="setState.error.value ?? remove.error.value" class="wrong" role="alert">
      <Icon name="exclamation" /> {{ (setState.error.value ?? remove.error.value)!.message }}
    </p>
    <section v-for="entry in cell?.cells" :key="entry.assignment" class="one">
      <p class="mb-1"><BoardMarks :cell="entry" /> {{ entry.sentence }}</p>
      <div v-needs:author>
        <BButton variant="light" @click="emit('edit', entry.assignment)">Change…</BButton>{{ ' ' }}
        <BButton variant="light" @click="turn(entry.assignment)">{{
          entry.state === 'active' ? 'Pause…' : 'Put in force…'
        }}</BButton>{{ ' ' }}
        <BButton variant="light" @click="drop(entry.assignment)">Remove…</BButton>
      </div>
    </section>
    <BButton v-needs:author variant="link" class="px-0" @click="emit('edit')"
      ><Icon name="plus" /> Assign it here once more, otherwise</BButton
    >
  </BModal>
</template>

<style scoped>
.one + .one {
  border-top: 1px solid var(--line-2);
  margin-top: 0.8rem;
  padding-top: 0.8rem;
}
.wrong {
  color: var(--block);
}
</style>
