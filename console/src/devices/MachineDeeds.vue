<script setup lang="ts">
import { computed, ref } from 'vue'

import type { Device } from '@/api/client'
import { labelsOf, rowsOf } from './labels'
import { type Deed, useDeed, useSetLabels } from './useDeeds'

/** What an administrator can do to one machine: labels, revoke, retire. */
const props = defineProps<{ device: Device }>()
const setLabels = useSetLabels()
const deed = useDeed()

const labelling = ref(false)
const rows = ref<{ name: string; value: string }[]>([])
/** The machine's version as the labels were read: what others did since must not be undone unseen. */
const seen = ref(0)
const doing = ref(false)
const which = ref<Deed>('retire')
const reason = ref('')
const WORDS = {
  retire: {
    title: 'Retire',
    text: 'It leaves all groups, and its credential is refused at once. Its history stays.',
    does: 'Retire it',
  },
  revoke: {
    title: 'Revoke the credential of',
    text: 'It is refused at once, and goes on with its last good bundle until it joins again with a new code.',
    does: 'Revoke it',
  },
}
const words = computed(() => WORDS[which.value as 'retire' | 'revoke'])

function label() {
  rows.value = rowsOf(props.device.labels)
  if (!rows.value.length) rows.value = [{ name: '', value: '' }]
  seen.value = props.device.version
  setLabels.reset()
  labelling.value = true
}
function saveLabels() {
  setLabels.mutate(
    { device: props.device.id, labels: labelsOf(rows.value), version: seen.value },
    { onSuccess: () => (labelling.value = false) },
  )
}
function ask(wanted: 'retire' | 'revoke') {
  which.value = wanted
  reason.value = ''
  deed.reset()
  doing.value = true
}
function doIt() {
  deed.mutate(
    { device: props.device.id, deed: which.value, reason: reason.value.trim() || undefined },
    { onSuccess: () => (doing.value = false) },
  )
}
</script>

<template>
  <BDropdown
    v-if="device.lifecycle !== 'retired'"
    v-needs:author
    text="Manage"
    variant="light"
    placement="bottom-end"
  >
    <BDropdownItemButton @click="label">Labels…</BDropdownItemButton>
    <BDropdownItemButton v-if="device.lifecycle !== 'invited'" v-needs:keeper @click="ask('revoke')"
      >Revoke its credential…</BDropdownItemButton
    >
    <BDropdownItemButton v-needs:keeper @click="ask('retire')">Retire…</BDropdownItemButton>
  </BDropdown>
  <FormDialog
    v-model="labelling"
    :title="`Labels of ${device.hostname}`"
    does="Save"
    :error="setLabels.error.value"
    :disabled="setLabels.isPending.value"
    @submit="saveLabels"
  >
    <LabelEditor v-model="rows" />
    <p class="small dim">Groups that look at labels follow at once.</p>
  </FormDialog>
  <FormDialog
    v-model="doing"
    :title="`${words.title} ${device.hostname}`"
    :does="words.does"
    :error="deed.error.value"
    :disabled="deed.isPending.value"
    @submit="doIt"
  >
    <p>{{ words.text }}</p>
    <label class="form-label" for="deed-reason">Reason</label>
    <BFormInput id="deed-reason" v-model="reason" maxlength="2000" placeholder="Left on a train" />
  </FormDialog>
</template>
