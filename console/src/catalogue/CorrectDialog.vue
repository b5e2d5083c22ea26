<script setup lang="ts">
import { reactive, watch } from 'vue'

import { programCategoryValues } from '@/api/schema'
import { plain } from '@/lib/words'
import { type Correction, useCorrect } from './useCatalogue'

/** Say what a product is for, in place of what machines tell of it, and why. */
const props = defineProps<{ product: string; category?: string | null; correction?: Correction | null }>()
const shown = defineModel<boolean>({ required: true })
const put = useCorrect()
type Category = (typeof programCategoryValues)[number]
const draft = reactive({ category: '' as Category | '', reason: '' })
const CHOICES = [
  { value: '', text: 'Choose one' },
  ...programCategoryValues.map((value) => ({ value, text: plain(value) })),
]
watch(shown, () => {
  put.reset()
  draft.category = programCategoryValues.find((known) => known === props.category) ?? ''
  draft.reason = props.correction?.reason ?? ''
})
function save() {
  const body = {
    product: props.correction?.product ?? props.product,
    category: draft.category as Category,
    reason: draft.reason.trim() || null,
  }
  put.plan(
    { body, version: props.correction?.version },
    { title: `what ${body.product} is for`, onSuccess: () => (shown.value = false) },
  )
}
</script>

<template>
  <FormDialog
    v-model="shown"
    :title="`Correct what ${product} is for`"
    does="Save"
    :error="put.error.value"
    :disabled="put.isPending.value || !draft.category"
    @submit="save"
  >
    <label class="form-label" for="correct-category">All its versions are for</label>
    <BFormSelect id="correct-category" v-model="draft.category" :options="CHOICES" />
    <label class="form-label mt-3" for="correct-reason">Why</label>
    <BFormTextarea
      id="correct-reason"
      v-model="draft.reason"
      required
      rows="2"
      maxlength="2000"
      placeholder="Engineers build with it"
    />
  </FormDialog>
</template>
