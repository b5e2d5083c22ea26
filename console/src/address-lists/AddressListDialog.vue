<script setup lang="ts">
import { computed, reactive, ref, watch } from 'vue'

import { addressesIn } from '@/lib/addressLines'
import { counted } from '@/lib/words'
import { type AddressList, type AddressListBody, addressLists } from './useAddressLists'

/** Make an address list, or change one. */
const props = defineProps<{ list?: AddressList }>()
const shown = defineModel<boolean>({ required: true })
const create = addressLists.useCreate()
const put = addressLists.usePut()
const remove = addressLists.useRemove()
const error = computed(() => create.error.value ?? put.error.value ?? remove.error.value)
const draft = reactive({ key: '', name: '', note: '', addresses: '' })
/** What it was when the dialog opened. */
const known = ref<AddressList>()
const addresses = computed(() => addressesIn(draft.addresses))

watch(shown, () => {
  for (const one of [create, put, remove]) one.reset()
  known.value = shown.value ? props.list : undefined
  Object.assign(draft, {
    key: known.value?.key ?? '',
    name: known.value && known.value.name !== known.value.key ? known.value.name : '',
    note: known.value?.note ?? '',
    addresses: known.value?.addresses?.join('\n') ?? '',
  })
})
function save() {
  const body: AddressListBody = {
    key: draft.key.trim(),
    name: draft.name.trim() || null,
    note: draft.note.trim() || null,
    addresses: addresses.value,
  }
  const onSuccess = () => (shown.value = false)
  const title = `address list ${body.key}`
  if (known.value) put.plan({ body, version: known.value.version }, { title, onSuccess })
  else create.plan(body, { title: `new ${title}`, onSuccess })
}
function drop() {
  const { key, version } = known.value!
  const onSuccess = () => (shown.value = false)
  remove.plan({ key, version }, { title: `remove address list ${key}`, onSuccess })
}
</script>

<template>
  <FormDialog
    v-model="shown"
    :title="list ? `Address list ${list.key}` : 'New address list'"
    :does="list ? 'Save' : 'Make address list'"
    :error="error"
    :disabled="create.isPending.value || put.isPending.value"
    @submit="save"
  >
    <template v-if="!list">
      <label class="form-label" for="address-list-key">Key</label>
      <BFormInput
        id="address-list-key"
        v-model="draft.key"
        required
        maxlength="64"
        pattern="[a-z0-9][a-z0-9\-]*"
        placeholder="partner-sites"
        class="mb-3"
      />
    </template>
    <label class="form-label" for="address-list-name">Name</label>
    <BFormInput id="address-list-name" v-model="draft.name" maxlength="120" placeholder="Partners’ sites" />
    <div class="mt-3">
      <AddressLines
        v-model="draft.addresses"
        :label="`Addresses, one a line: ${counted(addresses.length, 'address', 'addresses')}`"
      />
    </div>
    <p class="sub small mt-2 mb-0">
      A host with all below it, <code>.host</code> for that host alone, a URL, an IP address or range, or a
      site pattern.
    </p>
    <label class="form-label mt-3" for="address-list-note">Note</label>
    <BFormInput id="address-list-note" v-model="draft.note" maxlength="2000" />
    <BButton v-if="list && !list.rulesets?.length" variant="link" class="mt-2 px-0" @click="drop"
      >Remove this address list</BButton
    >
  </FormDialog>
</template>
