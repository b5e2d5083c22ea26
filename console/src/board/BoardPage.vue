<script setup lang="ts">
import { useRouteQuery } from '@vueuse/router'
import { computed, ref } from 'vue'

import type { Assignment, Ruleset } from '@/api/client'
import { useCheck } from '@/checks/useChecks'
import { useFindingCounts } from '@/findings/useFindings'
import { counted } from '@/lib/words'
import { type BoardCell, type OverlapAsked, type OverlapRow, useBoard } from './useBoard'

const { data: board, isPending, error, refetch, hasNextPage, fetchNextPage, isFetchingNextPage } = useBoard()
const { data: findings } = useFindingCounts()

// --- what is compared, in the address ---

const groups = useRouteQuery<string>('groups', '')
const device = useRouteQuery<string>('device', '')
const typed = useRouteQuery<string>('look', '')
const chosen = computed(() => groups.value.split(',').filter(Boolean))
const machine = ref(device.value)
function choose(target: string) {
  const next = chosen.value.includes(target)
    ? chosen.value.filter((one) => one !== target)
    : [...chosen.value, target].slice(-3)
  device.value = machine.value = ''
  groups.value = next.join(',')
}
function chooseMachine() {
  groups.value = ''
  device.value = machine.value.trim()
}
const rows = computed(() => board.value?.rows ?? [])
const asked = computed<OverlapAsked>(() => {
  const alone = rows.value.find(({ target, device }) => device && chosen.value.includes(target))
  const visit = typed.value || undefined
  if (device.value || alone) return { device: device.value || alone!.target, visit }
  return { group: chosen.value, visit }
})

// --- a cell ---

const opened = ref<{ ruleset: string; target: string; cells: BoardCell[] }>()
const shownCell = ref(false)
const assigning = ref(false)
const edited = ref<Assignment>()
const begin = ref<string>()
const kindOf = (ruleset: string) =>
  (board.value?.columns.find((column) => column.ruleset === ruleset)?.kind ?? 'category') as Ruleset['kind']
function open(ruleset: string, target: string, cells: BoardCell[]) {
  opened.value = { ruleset, target, cells }
  if (cells.length) shownCell.value = true
  else edit()
}
function edit(assignment?: Assignment) {
  shownCell.value = false
  edited.value = assignment
  begin.value = assignment ? undefined : opened.value?.target
  assigning.value = true
}

// --- why ---

const why = useCheck()
const asking = ref(false)
function explain(row: OverlapRow) {
  const one = row.outcomes[0]
  if (!row.url) return
  why.mutate({
    device: one.device,
    url: row.url,
    user: one.user ?? undefined,
    at: one.at,
    place: one.place as 'on-site' | 'off-site',
  })
  asking.value = true
}
const kinds = computed(() => {
  const open = findings.value?.kinds ?? {}
  return { contradiction: open.contradiction ?? 0, shadowed: open.shadowed ?? 0 }
})
</script>

<template>
  <div class="page">
    <BoardTabs />
    <PageHead title="Assignments">
      <span v-if="board">
        {{ counted(board.groups, 'group') }}, {{ counted(board.columns.length, 'ruleset') }},
        {{ board.in_force }} in force<template v-if="kinds.contradiction">
          ·
          <RouterLink :to="{ name: 'findings', query: { kind: 'contradiction' } }">{{
            counted(kinds.contradiction, 'contradiction')
          }}</RouterLink></template
        ><template v-if="kinds.shadowed"
          >,
          <RouterLink :to="{ name: 'findings', query: { kind: 'shadowed' } }"
            >{{ kinds.shadowed }} shadowed</RouterLink
          ></template
        >
      </span>
      <template #actions>
        <form class="machine" @submit.prevent="chooseMachine">
          <BFormInput v-model="machine" type="search" aria-label="One machine" placeholder="one machine" />
          <BButton type="submit" variant="light">Show</BButton>
        </form>
        <RestrictionDeeds :on="machine ? [machine] : chosen" />
      </template>
    </PageHead>
    <StateBox
      :loading="isPending"
      :error="error"
      :empty="board?.columns.length === 0"
      :rows="9"
      @retry="refetch()"
    >
      <template #empty>
        <p><b>Nothing can be assigned yet.</b></p>
        <p class="sub">
          Make a ruleset under <RouterLink :to="{ name: 'categories' }">Controls</RouterLink>.
        </p>
      </template>
      <BoardTable v-if="board" class="mt-3" :board="board" :chosen="chosen" @choose="choose" @open="open" />
      <p v-if="hasNextPage" class="mt-2 mb-0 small">
        The {{ board!.rows.length }} strongest of {{ board!.total }}.
        <BButton variant="light" :disabled="isFetchingNextPage" @click="fetchNextPage()">Show more</BButton>
      </p>
      <p class="legend small sub">
        <ActionMark action="allow" /> <ActionMark action="warn" /> <ActionMark action="block" />
        <ActionMark action="log" /> <span class="chip">applies</span> several actions
        <span><Icon name="nut" /> mandatory</span> <span><Icon name="clock" /> has a schedule</span>
        <span><Icon name="person" /> for some people</span>
        <span><Icon name="pin" /> only on- or off-site</span>
        <span><Icon name="key" /> exception</span>
        <span><Icon name="eye" /> on how many machines it was seen to hold</span>
      </p>
      <OverlapPanel
        v-if="chosen.length || device"
        :asked="asked"
        :typed="typed"
        @type="typed = $event"
        @why="explain"
      />
      <p v-else class="sub">Choose two groups, or one machine, to see what each contributes and what wins.</p>
    </StateBox>
    <CellDialog v-model="shownCell" :cell="opened" @edit="edit" />
    <AssignDialog
      v-if="opened"
      v-model="assigning"
      :ruleset="opened.ruleset"
      :kind="kindOf(opened.ruleset)"
      :assignment="edited"
      :begin="begin"
    />
    <BModal v-model="asking" title="Why" title-tag="h2" size="lg" no-footer>
      <StateBox :loading="why.isPending.value" :error="why.error.value" :rows="3">
        <template v-if="why.data.value">
          <p class="sub">
            <code>{{ why.data.value.host }}</code> on {{ why.data.value.attempt.device
            }}<template v-if="why.data.value.attempt.user"> by {{ why.data.value.attempt.user }}</template
            >, {{ new Date(why.data.value.attempt.at!).toLocaleString() }}, {{ why.data.value.attempt.place }}
          </p>
          <template v-for="layer in why.data.value.intended.layers" :key="layer.layer">
            <template v-if="layer.layer === 'filter' || layer.winner || layer.lost.length">
              <h3>{{ layer.layer }}</h3>
              <LadderView :layer="layer" />
            </template>
          </template>
        </template>
      </StateBox>
    </BModal>
  </div>
</template>

<style scoped>
.machine {
  display: flex;
  gap: 0.4rem;
}
.legend {
  display: flex;
  flex-wrap: wrap;
  gap: 0.7rem;
  align-items: center;
  margin: 0.6rem 0 0.9rem;
}
h3 {
  font-size: 0.875rem;
  font-weight: 600;
  text-transform: capitalize;
}
</style>
