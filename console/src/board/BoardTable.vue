<script setup lang="ts">
import { computed } from 'vue'

import type { Board } from '@/api/client'
import type { BoardCell } from './useBoard'

/** Groups by precedence down, rulesets across, and what is put where they meet. */
const props = defineProps<{ board: Board; chosen: string[] }>()
defineEmits<{ choose: [target: string]; open: [ruleset: string, target: string, cells: BoardCell[]] }>()

const KINDS = [
  { kind: 'category', title: 'Web categories' },
  { kind: 'indicator', title: 'Indicators' },
  { kind: 'site', title: 'Site lists' },
  { kind: 'startup', title: 'Startup' },
] as const
const kinds = computed(() =>
  KINDS.map(({ kind, title }) => ({
    title,
    number: props.board.columns.filter((column) => column.kind === kind).length,
  })).filter(({ number }) => number),
)
const begins = computed(() => {
  const seen = new Set<string>()
  return new Set(
    props.board.columns.flatMap(({ kind, ruleset }) => {
      if (seen.has(kind)) return []
      seen.add(kind)
      return [ruleset]
    }),
  )
})
const cells = computed(() => {
  const found = new Map<string, BoardCell[]>()
  for (const cell of props.board.cells) {
    const key = `${cell.target} ${cell.ruleset}`
    found.set(key, [...(found.get(key) ?? []), cell])
  }
  return found
})
const at = (target: string, ruleset: string) => cells.value.get(`${target} ${ruleset}`) ?? []
/** The role for opening a cell: in an empty one something is assigned. */
const neededFor = (target: string, ruleset: string) => (at(target, ruleset).length ? undefined : 'author')
</script>

<template>
  <div class="panel flush scroll" tabindex="0" role="region" aria-label="The board">
    <BTableSimple class="board" caption-top>
      <caption class="visually-hidden">
        What is assigned: groups by precedence down, rulesets across
      </caption>
      <BThead>
        <BTr>
          <BTh class="corner"><span class="visually-hidden">Group</span></BTh>
          <BTh v-for="kind in kinds" :key="kind.title" :colspan="kind.number" class="kind begins">{{
            kind.title
          }}</BTh>
        </BTr>
        <BTr>
          <BTh class="g">Groups, strongest first</BTh>
          <BTh
            v-for="column in board.columns"
            :key="column.ruleset"
            :class="{ begins: begins.has(column.ruleset) }"
            scope="col"
            ><span class="turned">{{ column.ruleset }}</span></BTh
          >
        </BTr>
      </BThead>
      <BTbody>
        <BTr v-for="row in board.rows" :key="row.target" :class="{ sel: chosen.includes(row.target) }">
          <BTh scope="row" class="g">
            <label>
              <input
                type="checkbox"
                class="form-check-input"
                :checked="chosen.includes(row.target)"
                :aria-label="`Compare ${row.target}`"
                @change="$emit('choose', row.target)"
              />
              <span class="place">{{ row.device ? '' : row.built_in ? '–' : row.precedence }}</span>
              <span class="name">{{ row.target }}</span>
              <small v-if="row.device">machine</small><small v-else>{{ row.devices }}</small>
            </label>
          </BTh>
          <BTd
            v-for="column in board.columns"
            :key="column.ruleset"
            :class="{ begins: begins.has(column.ruleset) }"
          >
            <button
              v-needs:[neededFor(row.target,column.ruleset)]
              type="button"
              class="open"
              :class="{ empty: !at(row.target, column.ruleset).length }"
              @click="$emit('open', column.ruleset, row.target, at(row.target, column.ruleset))"
            >
              <span class="visually-hidden">{{
                at(row.target, column.ruleset).length
                  ? `Open ${column.ruleset} on ${row.target}: `
                  : `Assign ${column.ruleset} to ${row.target}`
              }}</span>
              <BoardMarks
                v-for="cell in at(row.target, column.ruleset)"
                :key="cell.assignment"
                :cell="cell"
              />
              <Icon v-if="!at(row.target, column.ruleset).length" name="plus" class="add" /><span
                v-if="!at(row.target, column.ruleset).length"
                class="dot"
                aria-hidden="true"
                >·</span
              >
            </button>
          </BTd>
        </BTr>
      </BTbody>
    </BTableSimple>
  </div>
</template>

<style scoped>
.scroll {
  /* what only screen readers see stands within it, and does not widen the page */
  position: relative;
  overflow: auto;
  max-height: 66vh;
}
.board {
  margin: 0;
  width: auto;
}
.board th,
.board td {
  padding: 0 0.15rem;
  height: 1.7rem;
  vertical-align: middle;
}
.board :deep(.chip) {
  font-size: 0.75rem;
  padding: 0 0.3rem;
}
.board .g {
  padding: 0 0.6rem;
}
.begins {
  border-left: 1px solid var(--line);
}
.kind {
  color: var(--ink-2);
}
.turned {
  max-height: 8.5rem;
  overflow: hidden;
  text-overflow: ellipsis;
}
thead th {
  vertical-align: bottom !important;
}
thead {
  position: sticky;
  top: 0;
  z-index: 2;
}
thead th {
  background: var(--card);
}
.g {
  position: sticky;
  left: 0;
  background: var(--card);
  white-space: nowrap;
  z-index: 1;
}
.g label {
  display: flex;
  align-items: center;
  gap: 0.4rem;
  cursor: pointer;
}
.g small {
  color: var(--ink-3);
  font-weight: 400;
}
.place {
  width: 1.2rem;
  text-align: right;
}
.sel td,
.sel .g {
  background: var(--brass-wash);
}
.open {
  display: flex;
  gap: 0.3rem;
  width: 100%;
  min-height: 1.5rem;
  align-items: center;
  background: none;
  border: 0;
  border-radius: 0.3rem;
  padding: 0 0.15rem;
  color: var(--ink);
}
.open:hover {
  background: var(--wash);
}
.empty .add {
  display: none;
  color: var(--ink-3);
}
.empty .dot {
  color: var(--ink-3);
}
.empty:hover .add,
.empty:focus-visible .add {
  display: inline-flex;
}
.empty:hover .dot,
.empty:focus-visible .dot {
  display: none;
}
</style>
