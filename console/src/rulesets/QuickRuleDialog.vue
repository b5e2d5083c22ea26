<script setup lang="ts">
import { computed, ref, watch } from 'vue'

import { listed } from '@/lib/words'
import { useQuickRules } from './useRulesets'

/** Block, warn of, or allow something on a group or a machine. Where that is kept is found, or made. */
const props = defineProps<{
  /** The group's key, or the machine's hostname or id. */
  on: string
  of: 'group' | 'device'
}>()
const shown = defineModel<boolean>({ required: true })
const quick = useQuickRules()
const ACTIONS = [
  { value: 'block', text: 'Block' },
  { value: 'warn', text: 'Warn' },
  { value: 'allow', text: 'Allow' },
]
const action = ref<'block' | 'warn' | 'allow'>('block')
const what = ref('')
const people = ref('')
const until = ref<string | null | undefined>(null)
const words = computed(() => listed(what.value))

watch(shown, () => {
  what.value = people.value = ''
  until.value = null
  action.value = 'block'
  quick.reset()
})
function save() {
  quick.plan(
    {
      action: action.value,
      what: words.value,
      on: [`${props.of}:${props.on}`],
      people: listed(people.value),
      until: until.value,
    },
    {
      title: `${action.value} ${words.value.join(', ')} on ${props.on}`,
      onSuccess: () => (shown.value = false),
    },
  )
}
</script>

<template>
  <FormDialog
    v-model="shown"
    lazy
    :title="`Block or allow on ${on}`"
    does="Look at what it does"
    :error="quick.error.value"
    :disabled="!words.length || until === undefined || quick.isPending.value"
    @submit="save"
  >
    <BFormRadioGroup v-model="action" name="quick-action" :options="ACTIONS" class="mb-2" />
    <label class="form-label" for="quick-what">What</label>
    <BFormTextarea
      id="quick-what"
      v-model="what"
      rows="3"
      required
      class="mono"
      placeholder="chess.example, Gambling, program:chess-club"
      aria-describedby="quick-what-hint"
    />
    <p id="quick-what-hint" class="small dim">
      Hosts, URLs, addresses, categories, services, site patterns, programs; joined by commas, or one a line.
      Where a word could be two of these, the one before a colon: <code>category:games</code>,
      <code>program:games</code>.
    </p>
    <label class="form-label" for="quick-people">Only for</label>
    <BFormInput
      id="quick-people"
      v-model="people"
      placeholder="everybody, or people and user groups joined by commas"
    />
    <MomentInput v-model="until" label="Until" ends class="mt-3" />
  </FormDialog>
</template>
