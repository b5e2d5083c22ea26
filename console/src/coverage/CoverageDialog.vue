<script setup lang="ts">
import { computed, reactive, watch } from 'vue'

import { wordsOf } from '@/lib/words'
import { browserListFamilyValues, coverageRowControlValues } from '@/api/schema'
import type { CoverageRow } from '@/api/client'
import { usePutCoverage } from './useCoverage'

/** Edit a row of the coverage table, or add one. */
const props = defineProps<{ row?: CoverageRow }>()
const shown = defineModel<boolean>({ required: true })
const put = usePutCoverage()
const EMPTY = {
  control: 'filter',
  browser: 'any',
  platform: 'any',
  http: 'page',
  https: 'host',
  browser_from: '',
  layer_from: '',
  platform_from: '',
  family: '',
  entries: '' as number | '',
  policy_file: '',
  passed_by: '',
  source: '',
}
const draft = reactive({ ...EMPTY })
const FAMILIES = [
  { value: '', text: 'as shipped' },
  ...browserListFamilyValues.map((family) => ({ value: family, text: `as ${family}` })),
]
// limits that differ by version are written on the command line, and kept here
const limits = computed(() => props.row?.list_limits ?? [])
const REACHES = [
  { value: 'page', text: 'page: the whole address, and the notice in its place' },
  { value: 'host', text: 'host: only the host, the notice beside it' },
  { value: 'none', text: 'none: visits pass by' },
]

watch(shown, () => {
  put.reset()
  const { row } = props
  Object.assign(
    draft,
    EMPTY,
    row && {
      ...row,
      browser_from: row.browser_from ?? '',
      layer_from: row.layer_from ?? '',
      platform_from: row.platform_from ?? '',
      family: row.family ?? '',
      entries: limits.value[0]?.entries ?? '',
      policy_file: row.policy_file ?? '',
      passed_by: row.passed_by.join('\n'),
    },
  )
})
function listParts() {
  if (draft.control !== 'site-list') return { family: null, list_limits: [], policy_file: null }
  const one = draft.entries === '' ? [] : [{ entries: draft.entries }]
  return {
    family: (draft.family || null) as CoverageRow['family'],
    list_limits: limits.value.length > 1 ? limits.value : one,
    policy_file: draft.policy_file.trim() || null,
  }
}
const linesOf = (text: string) =>
  text
    .split('\n')
    .map((line) => line.trim())
    .filter(Boolean)
function save() {
  const row = {
    control: draft.control as CoverageRow['control'],
    browser: draft.browser.trim(),
    platform: draft.platform.trim(),
    http: draft.http as CoverageRow['http'],
    https: draft.https as CoverageRow['https'],
    browser_from: draft.browser_from.trim() || null,
    layer_from: draft.layer_from.trim() || null,
    platform_from: draft.platform_from.trim() || null,
    ...listParts(),
    passed_by: draft.control === 'startup' ? linesOf(draft.passed_by) : [],
    source: draft.source.trim(),
    date: new Date().toISOString().slice(0, 10),
  }
  put.plan(
    { row, version: props.row?.version },
    { title: 'coverage row', onSuccess: () => (shown.value = false) },
  )
}
</script>

<template>
  <FormDialog
    v-model="shown"
    :title="row ? 'Edit a row' : 'Add a row'"
    does="Save"
    :error="put.error.value"
    :disabled="put.isPending.value"
    @submit="save"
  >
    <div class="grid">
      <div>
        <label class="form-label" for="cov-control">Control</label>
        <BFormSelect
          id="cov-control"
          v-model="draft.control"
          :options="wordsOf(coverageRowControlValues)"
          :disabled="Boolean(row)"
        />
      </div>
      <div>
        <label class="form-label" for="cov-browser">Browser</label>
        <BFormInput
          id="cov-browser"
          v-model="draft.browser"
          required
          maxlength="255"
          :disabled="Boolean(row)"
        />
      </div>
      <div>
        <label class="form-label" for="cov-platform">Platform</label>
        <BFormInput
          id="cov-platform"
          v-model="draft.platform"
          required
          maxlength="255"
          :disabled="Boolean(row)"
        />
      </div>
      <div class="wide">
        <label class="form-label" for="cov-http">Over http</label>
        <BFormSelect id="cov-http" v-model="draft.http" :options="REACHES" />
      </div>
      <div class="wide">
        <label class="form-label" for="cov-https">Over https</label>
        <BFormSelect id="cov-https" v-model="draft.https" :options="REACHES" />
      </div>
      <div>
        <label class="form-label" for="cov-from">Browser from</label>
        <BFormInput id="cov-from" v-model="draft.browser_from" placeholder="any version" maxlength="255" />
      </div>
      <div>
        <label class="form-label" for="cov-layer">Layer from</label>
        <BFormInput id="cov-layer" v-model="draft.layer_from" placeholder="any version" maxlength="255" />
      </div>
      <div>
        <label class="form-label" for="cov-platform-from">Platform from</label>
        <BFormInput
          id="cov-platform-from"
          v-model="draft.platform_from"
          placeholder="any version"
          maxlength="255"
        />
      </div>
      <template v-if="draft.control === 'site-list'">
        <div>
          <label class="form-label" for="cov-family">Reads its list</label>
          <BFormSelect id="cov-family" v-model="draft.family" :options="FAMILIES" />
        </div>
        <div>
          <label class="form-label" for="cov-entries">Entries of each list</label>
          <BFormInput
            id="cov-entries"
            v-model.number="draft.entries"
            type="number"
            min="1"
            max="1000000"
            placeholder="as shipped"
            :disabled="limits.length > 1"
          />
        </div>
        <div class="wide">
          <label class="form-label" for="cov-file">Policy file</label>
          <BFormInput id="cov-file" v-model="draft.policy_file" placeholder="as shipped" maxlength="255" />
        </div>
      </template>
      <div v-if="draft.control === 'startup'" class="wide">
        <label class="form-label" for="cov-passed">Known ways past a rule, one a line</label>
        <BFormTextarea id="cov-passed" v-model="draft.passed_by" rows="3" maxlength="4000" />
      </div>
      <div class="wide">
        <label class="form-label" for="cov-source">Source: who found it out, and how</label>
        <BFormInput id="cov-source" v-model="draft.source" required maxlength="255" />
      </div>
    </div>
  </FormDialog>
</template>

<style scoped>
.grid {
  display: grid;
  grid-template-columns: 1fr 1fr 1fr;
  gap: 0.75rem;
}
.wide {
  grid-column: 1 / -1;
}
</style>
