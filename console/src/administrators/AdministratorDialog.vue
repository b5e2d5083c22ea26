<script setup lang="ts">
import { ref, watch } from 'vue'

import { administratorRoleValues } from '@/api/schema'
import { type Administrator, useMakeAdministrator, usePutAdministrator } from './useAdministrators'

/** Make an administrator, or say something else of one. */
const props = defineProps<{ administrator?: Administrator }>()
const shown = defineModel<boolean>({ required: true })
const make = useMakeAdministrator()
const put = usePutAdministrator()
const ROLES = [
  { value: 'reader', text: 'reader: sees everything, changes nothing' },
  { value: 'responder', text: 'responder: pushes, answers requests' },
  { value: 'author', text: 'author: writes policy and puts it in force' },
  { value: 'keeper', text: 'keeper: also machines, feeds, settings, administrators' },
]
const name = ref('')
const role = ref<(typeof administratorRoleValues)[number]>('reader')
const seesNames = ref(false)
const probesFreely = ref(false)
const note = ref('')
watch(shown, () => {
  make.reset()
  put.reset()
  name.value = props.administrator?.name ?? ''
  role.value = props.administrator?.role ?? 'reader'
  seesNames.value = props.administrator?.sees_names ?? false
  probesFreely.value = props.administrator?.probes_freely ?? false
  note.value = props.administrator?.note ?? ''
})
function save() {
  const body = {
    role: role.value,
    sees_names: seesNames.value,
    probes_freely: probesFreely.value,
    note: note.value.trim() || null,
    disabled: props.administrator?.disabled ?? false,
  }
  const seen = props.administrator
  if (seen) put.mutate({ seen, body }, { onSuccess: () => (shown.value = false) })
  else make.mutate({ ...body, name: name.value.trim() })
}
</script>

<template>
  <FormDialog
    v-model="shown"
    :title="administrator?.name ?? 'New administrator'"
    :does="administrator ? 'Save' : 'Make administrator'"
    :error="put.error.value ?? make.error.value"
    :disabled="put.isPending.value || make.isPending.value"
    @submit="save"
  >
    <template v-if="make.data.value" #done><FirstPassword :made="make.data.value" /></template>
    <template v-if="!administrator">
      <label class="form-label" for="administrator-name">Name</label>
      <BFormInput
        id="administrator-name"
        v-model="name"
        class="mb-3"
        required
        maxlength="64"
        pattern="[A-Za-z0-9._@\-]+"
        placeholder="night-desk"
        autocomplete="off"
      />
    </template>
    <label class="form-label" for="administrator-role">Role</label>
    <BFormSelect id="administrator-role" v-model="role" :options="ROLES" />
    <BFormCheckbox v-model="seesNames" class="my-3"
      >Sees names: who a person is in activity, and the audit trail. Others see a pseudonym for each
      person.</BFormCheckbox
    >
    <BFormCheckbox v-model="probesFreely" class="my-3"
      >Probes freely: may have machines try any address, and take pictures. Others run the probe sets that are
      kept.</BFormCheckbox
    >
    <label class="form-label" for="administrator-note">Note</label>
    <BFormInput id="administrator-note" v-model="note" maxlength="500" placeholder="Answers crews at night" />
  </FormDialog>
</template>
