<script setup lang="ts">
import { computed } from 'vue'

import type { Condition } from '@/api/client'
import { useMembershipFields } from './useGroups'

/** One condition of a membership rule: fact, operator, value. */
const condition = defineModel<Condition>({ required: true })
defineEmits<{ remove: [] }>()
const { data: fields } = useMembershipFields()

const LABEL = 'labels.'
const WORDS: Record<string, string> = {
  is: 'is',
  one_of: 'is one of',
  starts_with: 'starts with',
  ends_with: 'ends with',
  contains: 'contains',
  like: 'looks like (* ?)',
  under: 'is under',
  within: 'within network',
  from: 'at least',
  to: 'at most',
  below: 'below',
  older_than: 'longer ago than',
  has: 'has one with',
}
const HINTS: Record<string, string> = {
  under: 'brackwater/ships',
  within: '198.51.100.0/24',
  one_of: 'kiosk, tablet',
  like: '*-bridge-*',
  older_than: 'P30D',
  below: '4.2',
  from: '4.2',
  to: '4.2',
}

const isLabel = computed(() => condition.value.field.startsWith(LABEL))
const shape = computed(() => {
  const name = isLabel.value ? 'labels.NAME' : condition.value.field
  return fields.value?.find(({ field }) => field === name)
})
const fieldOptions = computed(() => (fields.value ?? []).map(({ field }) => ({ value: field, text: field })))
const opOptions = computed(() => (shape.value?.ops ?? []).map((op) => ({ value: op, text: WORDS[op] ?? op })))

const field = computed({
  get: () => (isLabel.value ? 'labels.NAME' : condition.value.field),
  set(name: string) {
    const wanted = fields.value?.find((one) => one.field === name)
    const op = wanted?.ops.includes(condition.value.op) ? condition.value.op : wanted!.ops[0]
    condition.value = { field: name === 'labels.NAME' ? `${LABEL}wave` : name, op, value: emptyFor(op) }
  },
})
const hint = computed(() => (condition.value.field === 'sample' ? '10 %' : (HINTS[op.value] ?? '')))
const label = computed({
  get: () => condition.value.field.slice(LABEL.length),
  set: (name: string) => (condition.value = { ...condition.value, field: LABEL + name }),
})
const op = computed({
  get: () => condition.value.op,
  set(next) {
    const value = formOf(next) === formOf(condition.value.op) ? condition.value.value : emptyFor(next)
    condition.value = { ...condition.value, op: next, value }
  },
})
const formOf = (one: string) => (one === 'has' ? 'item' : one === 'one_of' ? 'list' : 'text')
const emptyFor = (one: string): Condition['value'] =>
  formOf(one) === 'item' ? {} : formOf(one) === 'list' ? [] : ''

const text = computed({
  get: () => {
    const value = condition.value.value
    return Array.isArray(value) ? value.join(', ') : typeof value === 'string' ? value : ''
  },
  set(written: string) {
    const value =
      formOf(op.value) === 'list'
        ? written
            .split(',')
            .map((one) => one.trim())
            .filter(Boolean)
        : written
    condition.value = { ...condition.value, value }
  },
})
const chooses = computed(() => Boolean(shape.value?.words?.length) && op.value === 'is')
const wordOptions = computed(() => ['', ...(shape.value?.words ?? [])])

type Item = Record<string, unknown>
const item = computed<Item>(() => {
  const value = condition.value.value
  return typeof value === 'object' && !Array.isArray(value) ? (value as Item) : {}
})
function setPart(name: string, value: unknown) {
  const next: Item = { ...item.value }
  if (value === '' || value === null) delete next[name]
  else next[name] = value
  condition.value = { ...condition.value, value: next as Condition['value'] }
}
const BOUNDS = ['below', 'from', 'to', 'is']
const bound = computed(() => {
  const version = item.value.version as Record<string, string> | string | undefined
  if (typeof version === 'string') return { op: 'is', value: version }
  const found = BOUNDS.find((name) => version?.[name] !== undefined)
  return { op: found ?? 'below', value: found ? version![found] : '' }
})
const setBound = (next: { op?: string; value?: string }) => {
  const { op: by, value } = { ...bound.value, ...next }
  setPart('version', value ? { [by]: value } : null)
}
const textParts = computed(() =>
  (shape.value?.parts ?? []).filter((part) => !['version', 'managed', 'path', 'category'].includes(part)),
)
const managed = computed({
  get: () => (item.value.managed === undefined ? '' : String(item.value.managed)),
  set: (value: string) => setPart('managed', value === '' ? null : value === 'true'),
})
const MANAGED = [
  { value: '', text: 'managed or not' },
  { value: 'true', text: 'managed' },
  { value: 'false', text: 'not managed' },
]
</script>

<template>
  <div class="condition">
    <BFormSelect v-model="field" :options="fieldOptions" aria-label="Fact" class="field" />
    <BFormInput v-if="isLabel" v-model="label" aria-label="Name of the label" class="short" />
    <BFormSelect v-model="op" :options="opOptions" aria-label="Operator" class="op" />
    <template v-if="op === 'has'">
      <BFormInput
        v-for="part in textParts"
        :key="part"
        :model-value="String(item[part] ?? '')"
        :placeholder="part"
        :aria-label="part"
        class="short"
        @update:model-value="setPart(part, $event)"
      />
      <BFormSelect
        :model-value="bound.op"
        :options="BOUNDS.map((value) => ({ value, text: `version ${WORDS[value]}` }))"
        aria-label="Version compared"
        class="op"
        @update:model-value="setBound({ op: String($event) })"
      />
      <BFormInput
        :model-value="bound.value"
        placeholder="any"
        aria-label="Version"
        class="short"
        @update:model-value="setBound({ value: String($event) })"
      />
      <BFormSelect
        v-if="shape?.parts?.includes('managed')"
        v-model="managed"
        :options="MANAGED"
        aria-label="Managed"
        class="op"
      />
    </template>
    <BFormSelect v-else-if="chooses" v-model="text" :options="wordOptions" aria-label="Value" class="value" />
    <BFormInput v-else v-model="text" :placeholder="hint" aria-label="Value" class="value" />
    <BButton variant="link" aria-label="Remove this condition" @click="$emit('remove')"
      ><Icon name="cross"
    /></BButton>
  </div>
</template>

<style scoped>
.condition {
  display: flex;
  flex-wrap: wrap;
  gap: 0.35rem;
  align-items: center;
}
.field {
  width: 11.5rem;
}
.op {
  width: 9.2rem;
}
.short {
  width: 7rem;
}
.value {
  flex: 1;
  min-width: 9rem;
}
</style>
