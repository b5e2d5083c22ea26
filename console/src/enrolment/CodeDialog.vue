<script setup lang="ts">
import { computed, ref, watch } from 'vue'

import { labelsOf } from '@/devices/labels'
import { useMakeCode } from './useEnrolmentCodes'

/** Make an enrolment code; it is shown once. */
const shown = defineModel<boolean>({ required: true })
const make = useMakeCode()
const name = ref('')
const uses = ref('1')
const hours = ref('24')
const labels = ref<{ name: string; value: string }[]>([])
const LASTS = [
  { value: '24', text: 'a day' },
  { value: '168', text: 'a week' },
  { value: '720', text: 'a month' },
  { value: '2160', text: 'three months' },
]
const link = computed(() => `${window.location.origin}/join#${make.data.value?.code}`)

watch(shown, () => {
  make.reset()
  name.value = ''
  uses.value = '1'
  hours.value = '24'
  labels.value = []
})
function save() {
  make.mutate({
    name: name.value.trim() || null,
    uses: Number(uses.value),
    hours: Number(hours.value),
    labels: labelsOf(labels.value),
  })
}
</script>

<template>
  <FormDialog
    v-model="shown"
    title="New enrolment code"
    does="Make code"
    :error="make.error.value"
    :disabled="make.isPending.value"
    @submit="save"
  >
    <template v-if="make.data.value" #done>
      <p>This code is shown once. Give it, or the link, to whoever is at the machine.</p>
      <p class="secret">{{ make.data.value.code }}</p>
      <p>
        <a :href="link" target="_blank">{{ link }}</a>
      </p>
    </template>
    <label class="form-label" for="code-name">What it is for</label>
    <BFormInput id="code-name" v-model="name" maxlength="120" placeholder="the second wave" />
    <div class="pair my-3">
      <div>
        <label class="form-label" for="code-uses">Machines</label>
        <BFormInput id="code-uses" v-model="uses" type="number" min="1" max="100000" required />
      </div>
      <div>
        <label class="form-label" for="code-hours">Good for</label>
        <BFormSelect id="code-hours" v-model="hours" :options="LASTS" />
      </div>
    </div>
    <LabelEditor v-model="labels" />
  </FormDialog>
</template>
