<script setup lang="ts">
import { computed, ref, watch } from 'vue'

import { useAssignments } from '@/assignments/useAssignments'
import { counted } from '@/lib/words'
import { useRulesets } from '@/rulesets/useRulesets'
import { type DrawnFrom, probeSets, useDrawUp } from './useDrawUp'

/** Draw a probe set up from a ruleset, an assignment, or what machines did; looked at, then saved. */
const emit = defineEmits<{ saved: [key: string] }>()
const shown = defineModel<boolean>({ required: true })
const { data: rulesets } = useRulesets()
const { data: assignments } = useAssignments({})
const { mutate: draw, data: drawn, error: undrawn, isPending, reset } = useDrawUp()
const { plan, error: unsaved } = probeSets.useCreate()
const SOURCES = [
  { value: 'ruleset', text: 'a ruleset: each selector, and one beside it that must pass' },
  { value: 'assignment', text: 'an assignment: the same, where and for whom it counts' },
  { value: 'visited', text: 'what is visited most: it stays open' },
  { value: 'stopped', text: 'what was stopped most: it stays so' },
]
const source = ref<'ruleset' | 'assignment' | 'visited' | 'stopped'>('ruleset')
const name = ref('')
const of = ref('')
const number = ref(20)
const machine = ref('')
const named = computed(() => source.value === 'ruleset' || source.value === 'assignment')
const options = computed(
  () => (source.value === 'ruleset' ? rulesets.value : assignments.value)?.map((one) => one.key) ?? [],
)
watch([shown, source], () => {
  reset()
  of.value = ''
})

function drawUp() {
  const given = named.value ? { [source.value]: of.value } : { [source.value]: number.value }
  const device = source.value === 'stopped' && machine.value.trim() ? { device: machine.value.trim() } : {}
  draw({ key: name.value.trim(), days: 14, to: [], ...given, ...device } as DrawnFrom)
}
const save = () =>
  plan(drawn.value!, {
    title: `new probe set ${drawn.value!.key}`,
    onSuccess: () => {
      shown.value = false
      emit('saved', drawn.value!.key)
    },
  })
</script>

<template>
  <FormDialog
    v-model="shown"
    title="Draw a probe set up"
    :does="drawn ? 'Save…' : 'Draw up'"
    size="lg"
    :error="undrawn ?? unsaved"
    :disabled="isPending || !name.trim() || (named && !of)"
    @submit="drawn ? save() : drawUp()"
  >
    <label class="form-label" for="drawn-key">Its key</label>
    <BFormInput
      id="drawn-key"
      v-model="name"
      placeholder="quiet-link-holds"
      maxlength="64"
      @input="reset()"
    />
    <label class="form-label mt-2" for="drawn-from">Drawn up from</label>
    <BFormSelect id="drawn-from" v-model="source" :options="SOURCES" />
    <template v-if="named">
      <label class="form-label mt-2" for="drawn-of">Which</label>
      <BFormSelect id="drawn-of" v-model="of" :options="options" @change="reset()" />
    </template>
    <template v-else>
      <label class="form-label mt-2" for="drawn-number">How many hosts</label>
      <BFormInput
        id="drawn-number"
        v-model.number="number"
        type="number"
        min="1"
        max="500"
        @input="reset()"
      />
    </template>
    <template v-if="source === 'stopped'">
      <label class="form-label mt-2" for="drawn-machine">Only on this machine</label>
      <BFormInput
        id="drawn-machine"
        v-model="machine"
        placeholder="anywhere"
        maxlength="253"
        @input="reset()"
      />
    </template>
    <div v-if="drawn" class="panel flush mt-3" role="status">
      <BTableSimple caption-top>
        <caption class="px-3">
          {{
            counted(drawn.probes?.length ?? 0, 'probe')
          }}, looked at before they are saved
        </caption>
        <BTbody>
          <BTr v-for="(one, place) in drawn.probes?.slice(0, 12)" :key="place">
            <BTd><ActionMark :action="one.expect" /></BTd>
            <BTd
              ><code>{{ one.visit ?? one.start?.product ?? one.start?.file ?? one.start?.sha256 }}</code></BTd
            >
          </BTr>
        </BTbody>
      </BTableSimple>
    </div>
  </FormDialog>
</template>
