<script setup lang="ts">
import { BFormInput, BModal, BTableSimple, BTbody, BTd, BTh, BThead, BTr } from 'bootstrap-vue-next'
import { ref, watch } from 'vue'

import { useOrderPreview, usePutOrder } from '../api/groups'
import { useTaxonomy } from '../api/policy'
import ActionMark from './ActionMark.vue'
import DialogButtons from './DialogButtons.vue'
import StateBox from './StateBox.vue'

/** What another order of groups would change, before it is put in force. */
const props = defineProps<{ order: string[]; version: number }>()
const shown = defineModel<boolean>({ required: true })
const emit = defineEmits<{ saved: [] }>()
const preview = useOrderPreview(
  () => props.order,
  () => shown.value,
)
const put = usePutOrder()
const { data: taxonomy } = useTaxonomy()
const reason = ref('')
watch(shown, () => {
  reason.value = ''
  put.reset()
})
const nameOf = (key: string) =>
  taxonomy.value?.families.flatMap(({ categories }) => categories).find((one) => one.key === key)?.name ?? key

function save() {
  put.mutate(
    { order: props.order, version: props.version, reason: reason.value.trim() || undefined },
    {
      onSuccess() {
        shown.value = false
        emit('saved')
      },
    },
  )
}
</script>

<template>
  <BModal v-model="shown" title="Put groups in this order" title-tag="h2" lazy no-footer>
    <form @submit.prevent="save">
      <StateBox
        :loading="preview.isPending.value"
        :error="preview.error.value"
        :rows="3"
        @retry="preview.refetch()"
      >
        <template v-if="preview.data.value">
          <p>
            <b>{{ preview.data.value.devices.toLocaleString() }}</b> machines would see their groups in
            another order.
            <template v-if="!preview.data.value.verdicts.length && preview.data.value.complete">
              No verdict on any web category changes.
            </template>
          </p>
          <BTableSimple v-if="preview.data.value.verdicts.length" small caption-top>
            <caption class="visually-hidden">
              Verdicts that would change
            </caption>
            <BThead
              ><BTr
                ><BTh>Category</BTh><BTh>Before</BTh><BTh>After</BTh><BTh class="text-end">Machines</BTh></BTr
              ></BThead
            >
            <BTbody>
              <BTr
                v-for="one in preview.data.value.verdicts"
                :key="`${one.category}${one.before}${one.after}`"
              >
                <BTd>{{ nameOf(one.category) }}</BTd>
                <BTd><ActionMark :action="one.before" /></BTd>
                <BTd><ActionMark :action="one.after" /></BTd>
                <BTd class="text-end">{{ one.devices }}</BTd>
              </BTr>
            </BTbody>
          </BTableSimple>
          <p v-if="!preview.data.value.complete" class="dim">
            Time ran out before every machine was looked at; more may change.
          </p>
        </template>
      </StateBox>
      <label class="form-label mt-3" for="order-reason">Reason</label>
      <BFormInput id="order-reason" v-model="reason" maxlength="2000" />
      <DialogButtons
        does="Put in force"
        :error="put.error.value"
        :disabled="put.isPending.value"
        @back="shown = false"
      />
    </form>
  </BModal>
</template>
