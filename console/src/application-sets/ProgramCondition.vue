<script setup lang="ts">
import { type ApplicationCondition, OFFERED } from './useApplicationSets'

/** One condition on programs: fields that must all be so, and bounds of the version. */
const props = defineProps<{ label: string; disabled?: boolean }>()
const emit = defineEmits<{ remove: []; typing: [value: string] }>()
const condition = defineModel<ApplicationCondition>({ required: true })

const FIELDS = ['product', 'file', 'vendor', 'signer', 'certificate', 'category', 'path', 'sha256'] as const
type Field = (typeof FIELDS)[number]
const BOUNDS = [
  { value: '', text: 'any version' },
  { value: 'below', text: 'version below' },
  { value: 'from', text: 'version from' },
  { value: 'to', text: 'version up to' },
  { value: 'is', text: 'version' },
]
const fields = () =>
  FIELDS.filter((name) => condition.value[name] !== undefined && condition.value[name] !== null)
const bound = () => Object.entries(condition.value.version ?? {}).find(([, value]) => value !== null)
const rest = (without: Field) => FIELDS.filter((name) => name === without || !fields().includes(name))

function rename(from: Field, to: Field) {
  const { [from]: value, ...others } = condition.value
  condition.value = { ...others, [to]: value ?? '' }
}
function write(field: Field, value: string) {
  condition.value = { ...condition.value, [field]: value }
  emit('typing', value)
}
const listOf = (field: Field) =>
  (OFFERED as readonly Field[]).includes(field) ? `of-the-fleet-${field}` : undefined
function drop(field: Field) {
  const others = { ...condition.value }
  delete others[field]
  condition.value = others
}
function setBound(op: string, value: string) {
  condition.value = { ...condition.value, version: op ? { [op]: value } : undefined }
}
</script>

<template>
  <fieldset class="condition" :disabled="props.disabled">
    <legend class="visually-hidden">{{ label }}</legend>
    <template v-for="(field, place) in fields()" :key="field">
      <span v-if="place" class="dim">and</span>
      <BFormSelect
        :model-value="field"
        :options="[...rest(field)]"
        class="short"
        :aria-label="`${label}: field`"
        @update:model-value="rename(field, $event as Field)"
      />
      <BFormInput
        :model-value="String(condition[field] ?? '')"
        required
        class="value"
        maxlength="1024"
        :list="listOf(field)"
        autocomplete="off"
        :aria-label="`${label}: ${field}`"
        @focus="emit('typing', String(condition[field] ?? ''))"
        @update:model-value="write(field, String($event))"
      />
      <BButton
        v-if="fields().length > 1"
        variant="link"
        :aria-label="`${label}: without ${field}`"
        @click="drop(field)"
        ><Icon name="dash"
      /></BButton>
    </template>
    <BFormSelect
      :model-value="bound()?.[0] ?? ''"
      :options="BOUNDS"
      class="short"
      :aria-label="`${label}: version bound`"
      @update:model-value="setBound(String($event), bound()?.[1] ?? '')"
    />
    <BFormInput
      v-if="bound()"
      :model-value="bound()![1] ?? ''"
      class="version"
      required
      placeholder="4.2"
      :aria-label="`${label}: version`"
      @update:model-value="setBound(bound()![0], String($event))"
    />
    <BButton
      v-if="rest('product').length > 1 && fields().length < 4"
      variant="link"
      @click="
        write(
          FIELDS.find((name) => !fields().includes(name))!,
          '',
        )
      "
      ><Icon name="plus" /> and</BButton
    >
    <BButton variant="link" :aria-label="`Remove ${label.toLowerCase()}`" @click="$emit('remove')"
      ><Icon name="cross"
    /></BButton>
  </fieldset>
</template>

<style scoped>
.condition {
  display: flex;
  align-items: center;
  flex-wrap: wrap;
  gap: 0.4rem;
  margin-bottom: 0.5rem;
}
.condition + .condition {
  border-top: 1px solid var(--line);
  padding-top: 0.5rem;
}
.short {
  width: auto;
}
.value {
  flex: 1 1 10rem;
  max-width: 20rem;
}
.version {
  width: 6rem;
}
</style>
