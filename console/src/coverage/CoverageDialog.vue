<script setup lang="ts">
import { reactive, watch } from 'vue'

import { wordsOf } from '@/lib/words'
import { coverageRowControlValues } from '@/api/schema'
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
  source: '',
}
const draft = reactive({ ...EMPTY })
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
    },
  )
})
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
