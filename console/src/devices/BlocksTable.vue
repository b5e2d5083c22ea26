<script setup lang="ts">
import { computed, ref } from 'vue'

import type { Blocks, LayerVerdict, Schemas } from '@/api/client'
import { shownAction } from '@/lib/shownAction'
import { plain } from '@/lib/words'
import { targetText } from '@/rulesets/kinds'

/** What a machine does about each web category, and about all else, that some rule names: intended beside effective,
 * gaps first. */
const props = defineProps<{ blocks: Blocks }>()
defineEmits<{ try: [host: string] }>()
const open = ref<string | null>(null)

interface Row {
  id: string
  name: string
  intended: LayerVerdict
  effective: LayerVerdict
  gap: Schemas['Gap']
  caveats: string[]
  /** What can be tried to see it. */
  url?: string
}
const categories = computed<Row[]>(() =>
  props.blocks.categories.map(({ category, ...row }) => ({
    ...row,
    id: `category ${category}`,
    caveats: [],
    url: `http://${category}.category.test/`,
  })),
)
const rules = computed<(Row & { kind: Schemas['RuleVerdict']['kind'] })[]>(() =>
  props.blocks.rules.map((row) => ({ ...row, id: `${row.kind} ${row.selector} ${row.name}` })),
)
const KINDS = [
  { kind: 'indicator', title: 'Indicators' },
  { kind: 'site', title: 'Site patterns' },
  { kind: 'startup', title: 'Programs' },
  { kind: 'category', title: 'Searches and media' },
] as const

const all = computed(() => props.blocks.categories.length + props.blocks.undecided)
const recorded = computed(() => props.blocks.categories.filter((row) => row.intended.logged.length).length)
const countOf = (kind: string) => props.blocks.counts.find((count) => count.kind === kind)
const sections = computed(() => {
  const gaps = [...categories.value, ...rules.value].filter((row) => row.gap !== 'none')
  const rest = (rows: Row[]) => rows.filter((row) => row.gap === 'none')
  return [
    {
      key: 'gaps',
      title: `${gaps.length === 1 ? '1 gap' : `${gaps.length} gaps`}: meant and done differ`,
      note: '',
      rows: gaps,
    },
    {
      key: 'categories',
      title: 'Web categories',
      note: `${props.blocks.categories.length} of ${all.value} decided, ${recorded.value} recorded`,
      rows: rest(categories.value),
    },
    ...KINDS.map(({ kind, title }) => ({
      key: kind as string,
      title: title as string,
      note: (kind !== 'category' && countOf(kind)?.sentence) || '',
      rows: rest(rules.value.filter((row) => row.kind === kind)),
    })),
  ].filter(({ rows, note, key }) => rows.length || (note && key !== 'categories'))
})

const shown = (layer: LayerVerdict) => shownAction(layer.verdict, !layer.winner && layer.logged.length > 0)
function because(row: Row) {
  const rule = row.intended.winner ?? row.intended.logged[0]
  return rule ? { ...rule, recorded: !row.intended.winner } : null
}
const toggle = (id: string) => (open.value = open.value === id ? null : id)
</script>

<template>
  <BTableSimple caption-top>
    <caption class="visually-hidden">
      What this machine does about all that some rule names
    </caption>
    <BThead>
      <BTr
        ><BTh>Settled for this machine</BTh><BTh class="verdict">Intended</BTh
        ><BTh class="verdict">Effective</BTh></BTr
      >
    </BThead>
    <BTbody v-for="section in sections" :key="section.key">
      <BTr class="heading">
        <BTh colspan="3" scope="rowgroup">
          <Icon v-if="section.key === 'gaps'" name="exclamationFill" class="gap-mark" />
          {{ section.title }} <span v-if="section.note" class="dim">· {{ section.note }}</span>
        </BTh>
      </BTr>
      <template v-for="row in section.rows" :key="row.id">
        <BTr :class="{ gap: section.key === 'gaps' }">
          <BTd>
            <button type="button" class="name" :aria-expanded="open === row.id" @click="toggle(row.id)">
              <Icon :name="open === row.id ? 'chevronDown' : 'chevronRight'" class="dim" />
              {{ row.name }}
            </button>
            <span v-if="because(row)" class="why small">
              {{ because(row)!.recorded ? 'recorded by ' : '' }}{{ because(row)!.ruleset }} on
              {{ targetText(because(row)!.target) }}
              <template v-if="because(row)!.mandatory"><Icon name="nut" /> mandatory</template>
              <template v-if="row.caveats.length"
                >{{ ' · ' }}{{ row.caveats.map(plain).join(', ') }}</template
              >
            </span>
          </BTd>
          <BTd class="verdict"><ActionMark :action="shown(row.intended)" /></BTd>
          <BTd class="verdict"
            ><ActionMark :action="row.gap === 'none' ? shown(row.intended) : row.effective.verdict"
          /></BTd>
        </BTr>
        <BTr v-if="open === row.id">
          <BTd colspan="3" class="opened">
            <LadderView :layer="row.intended" />
            <button v-if="row.url" type="button" class="btn btn-link p-0" @click="$emit('try', row.url)">
              Try its test host
            </button>
          </BTd>
        </BTr>
      </template>
    </BTbody>
    <BTbody v-if="blocks.sometimes.length">
      <BTr class="heading"><BTh colspan="2" scope="rowgroup">Only sometimes</BTh><BTh>Now</BTh></BTr>
      <BTr v-for="one in blocks.sometimes" :key="one.assignment">
        <BTd colspan="2">{{ one.sentence }}</BTd>
        <BTd class="sub">{{ one.now }}</BTd>
      </BTr>
    </BTbody>
  </BTableSimple>
</template>

<style scoped>
.verdict {
  width: 17%;
}
.heading th {
  background: var(--wash);
  font-weight: 600;
  font-size: 0.8125rem;
}
.heading .dim {
  font-weight: 400;
}
.gap-mark {
  color: var(--block);
}
.gap td:first-child {
  background: linear-gradient(90deg, var(--block-wash), transparent 75%);
  box-shadow: inset 3px 0 0 var(--block);
}
.name {
  background: none;
  border: 0;
  padding: 0;
  font: inherit;
  font-weight: 550;
  color: inherit;
  text-align: left;
  overflow-wrap: anywhere;
}
.why {
  color: var(--ink-2);
  margin-left: 0.6rem;
}
.opened {
  background: var(--paper);
}
</style>
