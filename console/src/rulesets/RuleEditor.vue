<script setup lang="ts">
import { computed, useId } from 'vue'

import type { Condition } from '@/api/client'
import { type DraftRule, emptyRule, newCondition, PARTS } from '@/groups/groupDraft'

/** A membership rule: what must all, in part, or not at all be true; nested as deep as wanted. */
const props = defineProps<{ rule: DraftRule; nested?: boolean }>()
defineEmits<{ remove: [] }>()
const id = useId()
const TITLES = { all: 'All of these hold', any: 'At least one of these holds', none: 'None of these holds' }
const shown = computed(() => PARTS.filter((part) => props.rule[part].length))
const hidden = computed(() => PARTS.filter((part) => !props.rule[part].length))

/* the draft is the page's own, made to be edited in place */
/* eslint-disable vue/no-mutating-props */
function addCondition(part: (typeof PARTS)[number]) {
  props.rule[part].push({ condition: newCondition() })
}
function addRule(part: (typeof PARTS)[number]) {
  const rule = emptyRule()
  rule.any.push({ condition: newCondition() }, { condition: newCondition() })
  props.rule[part].push({ rule })
}
function replace(part: (typeof PARTS)[number], place: number, condition: Condition) {
  props.rule[part][place] = { condition }
}
function remove(part: (typeof PARTS)[number], place: number) {
  props.rule[part].splice(place, 1)
}
/* eslint-enable vue/no-mutating-props */
</script>

<template>
  <div class="rule" :class="{ nested }">
    <BButton v-if="nested" variant="link" class="drop" aria-label="Remove this part" @click="$emit('remove')"
      ><Icon name="cross"
    /></BButton>
    <p v-if="!shown.length && !nested" class="sub mb-2">No condition yet: the rule holds no machine.</p>
    <fieldset v-for="part in shown" :key="part" class="part" :class="part" :aria-labelledby="`${id}-${part}`">
      <legend :id="`${id}-${part}`">{{ TITLES[part] }}</legend>
      <template v-for="(branch, place) in rule[part]" :key="place">
        <ConditionEditor
          v-if="'condition' in branch"
          :model-value="branch.condition"
          @update:model-value="replace(part, place, $event)"
          @remove="remove(part, place)"
        />
        <RuleEditor v-else :rule="branch.rule" nested @remove="remove(part, place)" />
      </template>
      <div>
        <BButton variant="link" @click="addCondition(part)"><Icon name="plus" /> Condition</BButton>
        <BButton variant="link" @click="addRule(part)"><Icon name="plus" /> Nested</BButton>
      </div>
    </fieldset>
    <div v-if="hidden.length" class="more">
      <BButton v-for="part in hidden" :key="part" variant="light" size="sm" @click="addCondition(part)">
        <Icon name="plus" /> {{ { all: 'All of', any: 'Any of', none: 'None of' }[part] }}
      </BButton>
    </div>
  </div>
</template>

<style scoped>
.rule {
  display: grid;
  gap: 0.6rem;
}
.nested {
  position: relative;
  border: 1px dashed var(--line);
  border-radius: 0.4rem;
  padding: 0.6rem;
}
.drop {
  position: absolute;
  right: 0.3rem;
  top: 0.1rem;
  z-index: 1;
}
.part {
  display: grid;
  gap: 0.4rem;
  border-left: 3px solid var(--allow);
  padding: 0 0 0 0.8rem;
}
.part.any {
  border-color: var(--brass-2);
}
.part.none {
  border-color: var(--block);
}
legend {
  font-size: 0.8125rem;
  font-weight: 600;
  color: var(--ink-2);
  margin: 0;
}
.more {
  display: flex;
  gap: 0.4rem;
}
</style>
