<script setup lang="ts">
import type { Assignment } from '@/api/client'
import { useRemoveAssignment, useSetState } from '@/assignments/useAssignments'
import type { BoardCell } from './useBoard'

/** What is assigned where a ruleset and a group meet: changed, paused or removed in place. */
defineProps<{
  cell?: { ruleset: string; target: string; cells: BoardCell[] }
}>()
const shown = defineModel<boolean>({ required: true })
const emit = defineEmits<{ edit: [assignment?: Assignment] }>()
const setState = useSetState()
const remove = useRemoveAssignment()
const close = () => (shown.value = false)

function turn(assignment: Assignment) {
  const { key } = assignment
  const state = assignment.state === 'active' ? 'paused' : 'active'
  setState.plan(
    { assignment, state },
    { title: state === 'active' ? `${key} in force` : `${key} paused`, onSuccess: close },
  )
}
function drop(assignment: Assignment) {
  remove.plan(assignment, { title: `remove ${assignment.key}`, onSuccess: close })
}
</script>

<template>
  <BModal v-model="shown" :title="cell ? `${cell.ruleset} on ${cell.target}` : ''" title-tag="h2" no-footer>
    <p v-if="setState.error.value ?? remove.error.value" class="wrong" role="alert">
      <Icon name="exclamation" /> {{ (setState.error.value ?? remove.error.value)!.message }}
    </p>
    <CellEntry
      v-for="entry in cell?.cells"
      :key="entry.assignment"
      class="one"
      :cell="entry"
      @edit="emit('edit', $event)"
      @turn="turn"
      @drop="drop"
    />
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
