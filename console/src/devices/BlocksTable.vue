<script setup lang="ts">
import { computed, ref } from 'vue'

import type { Blocks, LayerVerdict } from '@/api/client'
import { shownAction } from '@/lib/shownAction'

/** What a machine does about each web category that some rule names: intended beside effective, gaps first. */
const props = defineProps<{ blocks: Blocks }>()
defineEmits<{ try: [host: string] }>()
const open = ref<string | null>(null)

type Row = Blocks['categories'][number]
const gaps = computed(() => props.blocks.categories.filter((row) => row.gap !== 'none'))
const rest = computed(() => props.blocks.categories.filter((row) => row.gap === 'none'))
const sections = computed(() => [
  { rows: gaps.value, gap: true },
  { rows: rest.value, gap: false },
])
const all = computed(() => props.blocks.categories.length + props.blocks.undecided)
const recorded = computed(() => props.blocks.categories.filter((row) => row.intended.logged.length).length)

const shown = (layer: LayerVerdict) => shownAction(layer.verdict, !layer.winner && layer.logged.length > 0)
function because(row: Row) {
  const rule = row.intended.winner ?? row.intended.logged[0]
  return rule ? { ...rule, recorded: !row.intended.winner } : null
}
const toggle = (category: string) => (open.value = open.value === category ? null : category)
</script>

<template>
  <BTableSimple caption-top>
    <caption class="visually-hidden">
      What this machine does about each web category
    </caption>
    <BThead>
      <BTr
        ><BTh>Settled for this machine</BTh><BTh class="verdict">Intended</BTh
        ><BTh class="verdict">Effective</BTh></BTr
      >
    </BThead>
    <BTbody>
      <template v-for="section in sections" :key="String(section.gap)">
        <BTr v-if="section.rows.length" class="heading">
          <BTd colspan="3">
            <template v-if="section.gap">
              <Icon name="exclamationFill" class="gap-mark" /> {{ section.rows.length }}
              {{ section.rows.length === 1 ? 'gap' : 'gaps' }}: meant and done differ
            </template>
            <template v-else>
              Web categories
              <span class="dim"
                >· {{ blocks.categories.length }} of {{ all }} decided, {{ recorded }} recorded</span
              >
            </template>
          </BTd>
        </BTr>
        <template v-for="row in section.rows" :key="row.category">
          <BTr :class="{ gap: section.gap }">
            <BTd>
              <button
                type="button"
                class="name"
                :aria-expanded="open === row.category"
                @click="toggle(row.category)"
              >
                <Icon :name="open === row.category ? 'chevronDown' : 'chevronRight'" class="dim" />
                {{ row.name }}
              </button>
              <span v-if="because(row)" class="why small">
                {{ because(row)!.recorded ? 'recorded by ' : '' }}{{ because(row)!.ruleset }} on
                {{ because(row)!.target }}
                <template v-if="because(row)!.mandatory"><Icon name="nut" /> mandatory</template>
              </span>
            </BTd>
            <BTd class="verdict"><ActionMark :action="shown(row.intended)" /></BTd>
            <BTd class="verdict"
              ><ActionMark :action="section.gap ? row.effective.verdict : shown(row.intended)"
            /></BTd>
          </BTr>
          <BTr v-if="open === row.category">
            <BTd colspan="3" class="opened">
              <LadderView :layer="row.intended" />
              <button
                type="button"
                class="btn btn-link p-0"
                @click="$emit('try', `http://${row.category}.category.test/`)"
              >
                Try its test host
              </button>
            </BTd>
          </BTr>
        </template>
      </template>
    </BTbody>
  </BTableSimple>
</template>

<style scoped>
.verdict {
  width: 17%;
}
.heading td {
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
}
.why {
  color: var(--ink-2);
  margin-left: 0.6rem;
}
.opened {
  background: var(--paper);
}
</style>
