<script setup lang="ts">
import { computed, ref } from 'vue'

import type { Schemas } from '@/api/client'
import { useSession } from '@/access/useSession'
import { useRulesets } from '@/rulesets/useRulesets'
import type { ProbeDraft } from './probeDraft'

/** A probe of a set being edited: what is tried, where and what is expected; the rest on demand. */
const props = defineProps<{
  probe: ProbeDraft
  number: number
  where: string
  /** What it came to on the machines that have tried it. */
  observed?: Schemas['ObservedProbe']
}>()
defineEmits<{ drop: [] }>()
const { mayAuthor } = useSession()
const { data: rulesets } = useRulesets()
const open = ref(false)
// what is edited in place is the draft itself
const probe = computed(() => props.probe)
const EXPECTED = [
  { value: 'block', text: 'is stopped' },
  { value: 'warn', text: 'is warned of' },
  { value: 'allow', text: 'passes' },
]
const FIELDS = [
  { field: 'name', label: 'Name', hint: 'The kiosks sell tickets' },
  { field: 'user', label: 'Person', hint: 'anybody' },
  { field: 'browser', label: 'Browser', hint: 'any' },
  { field: 'at', label: 'At', hint: '2026-12-01T22:00:00Z; now' },
] as const
const anyOf = (words: string[]) => [
  { value: '', text: 'any' },
  ...words.map((value) => ({ value, text: value })),
]
const choices = computed(
  () =>
    [
      { field: 'window', label: 'Window', options: anyOf(['ordinary', 'private']) },
      {
        field: 'reached_by',
        label: 'Address',
        options: [
          { value: '', text: 'typed in' },
          { value: 'link', text: 'by a link of a search page' },
          { value: 'redirect', text: 'by a link that redirects' },
        ],
      },
      { field: 'place', label: 'Place', options: anyOf(['on-site', 'off-site']) },
      { field: 'layer', label: 'Settled by layer', options: anyOf(['browser', 'filter', 'startup']) },
      {
        field: 'ruleset',
        label: 'Settled by ruleset',
        options: anyOf((rulesets.value ?? []).map(({ key }) => key)),
      },
      {
        field: 'notice',
        label: 'A notice shows',
        options: [
          { value: '', text: 'no matter' },
          { value: 'true', text: 'yes' },
          { value: 'false', text: 'no' },
        ],
      },
    ] as const,
)
</script>

<template>
  <BTr>
    <BTd>
      <BFormInput
        v-model="probe.what"
        maxlength="8192"
        placeholder="https://reeltide.example/ or program:Deckhand Viewer"
        :aria-label="`Probe ${number} tries`"
        :disabled="!mayAuthor"
      />
      <div v-if="!open && (probe.name || observed)" class="small dim">
        {{ probe.name }}
        <template v-if="observed"
          >Observed <RelativeTime :at="observed.at" />: {{ observed.sentence }}</template
        >
      </div>
    </BTd>
    <BTd class="where">
      <BFormInput
        v-model="probe.to"
        list="probe-groups"
        maxlength="253"
        :placeholder="where || 'a group or a machine'"
        :aria-label="`Probe ${number} counts on`"
        :disabled="!mayAuthor"
      />
    </BTd>
    <BTd class="expected">
      <BFormSelect
        v-model="probe.expect"
        :options="EXPECTED"
        :aria-label="`Probe ${number} is expected`"
        :disabled="!mayAuthor"
      />
    </BTd>
    <BTd class="buttons">
      <BButton
        variant="link"
        :aria-expanded="open"
        :aria-label="`${open ? 'Less' : 'More'} of probe ${number}`"
        @click="open = !open"
        >{{ open ? 'Less' : 'More' }}</BButton
      >
      <BButton v-needs:author variant="link" :aria-label="`Remove probe ${number}`" @click="$emit('drop')"
        ><Icon name="cross"
      /></BButton>
    </BTd>
  </BTr>
  <BTr v-if="open">
    <BTd colspan="4">
      <div class="more">
        <label v-for="{ field, label, hint } in FIELDS" :key="field"
          ><span class="form-label">{{ label }}</span
          ><BFormInput v-model="probe[field]" :placeholder="hint" :disabled="!mayAuthor"
        /></label>
        <label v-for="{ field, label, options } in choices" :key="field"
          ><span class="form-label">{{ label }}</span
          ><BFormSelect v-model="probe[field]" :options="options" :disabled="!mayAuthor"
        /></label>
      </div>
    </BTd>
  </BTr>
</template>

<style scoped>
.where {
  width: 13rem;
}
.expected {
  width: 9rem;
}
.buttons {
  width: 7rem;
  white-space: nowrap;
}
.buttons .btn {
  min-width: 1.9rem;
}
.more {
  display: grid;
  grid-template-columns: repeat(auto-fill, minmax(11rem, 1fr));
  gap: 0.6rem 0.9rem;
  padding: 0.2rem 0 0.6rem;
}
</style>
