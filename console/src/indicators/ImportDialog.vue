<script setup lang="ts">
import { computed, ref, useTemplateRef, watch } from 'vue'

import { actionValues } from '@/api/schema'
import { counted, wordsOf } from '@/lib/words'
import { type FileFormat, type FileOfRules, useImportRules, useWeighRules } from './useIndicators'

/** Put a file of rules into a ruleset: first what that comes to, then the preview, then it is in force. */
const props = defineProps<{ ruleset: string }>()
const shown = defineModel<boolean>({ required: true })
const weigh = useWeighRules()
const put = useImportRules()
const input = useTemplateRef<HTMLInputElement>('input')
const file = ref<File>()
const format = ref<FileFormat>('csv')
const replace = ref(false)
const action = ref('block')
const report = weigh.data
const error = computed(() => weigh.error.value ?? put.error.value)
watch(shown, () => {
  weigh.reset()
  put.reset()
  file.value = undefined
})
const asked = (): FileOfRules => ({
  ruleset: props.ruleset,
  file: file.value!,
  format: format.value,
  replace: replace.value,
  action: action.value as 'block',
})
function chosen() {
  file.value = input.value?.files?.[0]
  if (!file.value) return
  format.value = file.value.name.endsWith('.json') ? 'stix' : 'csv'
  again()
}
function again() {
  if (file.value) weigh.mutate(asked())
}
function go() {
  put.plan(asked(), {
    title: `${file.value!.name} into ${props.ruleset}`,
    onSuccess: () => (shown.value = false),
  })
}
const NUMBERS = [
  ['new', 'new'],
  ['changed', 'changed'],
  ['unchanged', 'there already'],
  ['duplicates', 'doubled in the file'],
  ['overlapping', 'overlapping'],
  ['ended', 'ended already'],
  ['removed', 'would go'],
  ['refused', 'refused'],
  ['set_aside', 'kept aside'],
] as const
</script>

<template>
  <FormDialog
    v-model="shown"
    :title="`Rules from a file into ${ruleset}`"
    size="lg"
    does="Preview and put in…"
    :error="error"
    :disabled="
      !report ||
      weigh.isPending.value ||
      put.isPending.value ||
      !(report.new + report.changed + (report.removed ?? 0) + (report.files ?? 0))
    "
    @submit="go"
  >
    <div class="ask">
      <div>
        <label class="form-label" for="import-file">CSV, or a STIX 2.1 bundle</label>
        <input
          id="import-file"
          ref="input"
          type="file"
          required
          class="form-control"
          accept=".csv,.json"
          @change="chosen"
        />
      </div>
      <div>
        <label class="form-label" for="import-format">Written as</label>
        <BFormSelect
          id="import-format"
          v-model="format"
          :options="[
            { value: 'csv', text: 'CSV' },
            { value: 'stix', text: 'STIX 2.1' },
          ]"
          @change="again"
        />
      </div>
      <div>
        <label class="form-label" for="import-action">Where it does not say</label>
        <BFormSelect id="import-action" v-model="action" :options="wordsOf(actionValues)" @change="again" />
      </div>
    </div>
    <BFormCheckbox v-model="replace" class="mt-2" @change="again"
      >take out what the file does not name</BFormCheckbox
    >
    <p v-if="weigh.isPending.value" class="sub mt-3 mb-0" role="status">Weighing…</p>
    <div v-else-if="report" class="mt-3" aria-live="polite">
      <ul class="numbers">
        <li v-for="[name, words] in NUMBERS" :key="name" :class="{ none: !report[name] }">
          <b>{{ (report[name] ?? 0).toLocaleString() }}</b> {{ words }}
        </li>
      </ul>
      <p v-if="report.hit_hosts" class="mb-1">
        In the last 30 days these would have met <b>{{ counted(report.hit_hosts, 'host') }}</b> on
        {{ counted(report.hit_devices ?? 0, 'machine') }} ({{ counted(report.hit_visits ?? 0, 'visit') }} so
        far):
      </p>
      <p v-else class="sub mb-1">Nothing that was visited in the last 30 days meets them.</p>
      <BTableSimple v-if="report.hits?.length" caption-top>
        <caption class="visually-hidden">
          What they would have met
        </caption>
        <BThead
          ><BTr
            ><BTh>Host</BTh><BTh>By</BTh><BTh>Does</BTh><BTh class="text-end">Machines</BTh
            ><BTh class="text-end">Visits</BTh></BTr
          ></BThead
        >
        <BTbody>
          <BTr v-for="hit in report.hits.slice(0, 6)" :key="hit.host">
            <BTd
              ><code>{{ hit.host }}</code></BTd
            >
            <BTd
              ><code class="dim">{{ hit.selector }}</code></BTd
            >
            <BTd><ActionMark :action="hit.action as 'block'" /></BTd>
            <BTd class="text-end">{{ hit.devices.toLocaleString() }}</BTd>
            <BTd class="text-end">{{ hit.visits.toLocaleString() }}</BTd>
          </BTr>
        </BTbody>
      </BTableSimple>
      <details v-if="report.overlaps?.length">
        <summary>{{ report.overlapping?.toLocaleString() }} overlap with what there is</summary>
        <div v-for="one in report.overlaps.slice(0, 20)" :key="one.line" class="small">
          <code>{{ one.selector }}</code> and <code>{{ one.other }}</code> ({{ one.action }}) in
          {{ one.ruleset }}{{ one.feed ? `, from the feed ${one.feed}` : '' }}
        </div>
      </details>
      <details v-if="report.refused_lines?.length" open>
        <summary>{{ counted(report.refused ?? 0, 'line') }} cannot be used</summary>
        <div v-for="line in report.refused_lines.slice(0, 20)" :key="line.line" class="small">
          line {{ line.line }}: {{ line.problem }}
        </div>
      </details>
      <details v-if="report.aside?.length" open>
        <summary>
          {{ report.set_aside?.toLocaleString() }} cannot be expressed here, and are kept aside
        </summary>
        <div v-for="one in report.aside.slice(0, 20)" :key="one.name" class="small">
          <b>{{ one.name }}</b>: {{ one.problem }}
        </div>
      </details>
      <p v-if="report.files" class="mb-1">
        {{ counted(report.files, 'hash', 'hashes') }} of files go to the startup ruleset
        {{ report.files_ruleset }}.
      </p>
      <p class="sub mb-0">
        Machines would carry up to {{ report.most?.toLocaleString() }} of
        {{ report.capacity?.toLocaleString() }} indicators.
      </p>
    </div>
    <template #after>
      <p class="small dim mt-3 mb-0">
        The columns are those that
        <a :href="`/api/v1/rulesets/${ruleset}/rules.csv`" download>the CSV of this ruleset</a>
        has.
      </p>
    </template></FormDialog
  >
</template>

<style scoped>
.ask {
  display: grid;
  grid-template-columns: 1fr 9rem 10rem;
  gap: 1rem;
}
.numbers {
  display: flex;
  flex-wrap: wrap;
  gap: 0.2rem 1.2rem;
  list-style: none;
  padding: 0;
}
.none {
  color: var(--ink-3);
}
details {
  margin: 0.4rem 0;
}
</style>
