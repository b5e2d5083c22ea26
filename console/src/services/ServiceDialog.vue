<script setup lang="ts">
import { computed, reactive, ref, watch } from 'vue'

import { decisionValues } from '@/api/schema'
import {
  type Service,
  type ServiceBody,
  useCreateService,
  usePutService,
  useRemoveService,
} from './useServices'

/** Make a service, or change one: its hosts, how suitable it is, what was decided. */
const props = defineProps<{ service?: Service }>()
const shown = defineModel<boolean>({ required: true })
const create = useCreateService()
const put = usePutService()
const remove = useRemoveService()
const error = computed(() => create.error.value ?? put.error.value ?? remove.error.value)
const draft = reactive({
  key: '',
  name: '',
  hosts: '',
  suitability: '',
  decision: 'open' as Service['decision'],
})
/** What it was when the dialog opened. */
const known = ref<Service>()

watch(shown, () => {
  for (const one of [create, put, remove]) one.reset()
  known.value = shown.value ? props.service : undefined
  Object.assign(draft, {
    key: known.value?.key ?? '',
    name: known.value && known.value.name !== known.value.key ? known.value.name : '',
    hosts: known.value?.hosts.join('\n') ?? '',
    suitability: known.value?.suitability?.toString() ?? '',
    decision: known.value?.decision ?? 'open',
  })
})
function save() {
  const body: ServiceBody = {
    key: draft.key.trim(),
    name: draft.name.trim() || null,
    hosts: draft.hosts.split(/[\s,]+/).filter(Boolean),
    suitability: draft.suitability === '' ? null : Number(draft.suitability),
    decision: draft.decision,
    traits: known.value?.traits ?? {},
    note: known.value?.note ?? null,
  }
  const onSuccess = () => (shown.value = false)
  const title = `service ${body.key}`
  if (known.value) put.plan({ body, version: known.value.version }, { title, onSuccess })
  else create.plan(body, { title: `new ${title}`, onSuccess })
}
function drop() {
  const { key, version } = known.value!
  remove.plan({ key, version }, { title: `remove service ${key}`, onSuccess: () => (shown.value = false) })
}
</script>

<template>
  <FormDialog
    v-model="shown"
    :title="service ? `Service ${service.key}` : 'New service'"
    :does="service ? 'Save' : 'Make service'"
    :error="error"
    :disabled="create.isPending.value || put.isPending.value"
    @submit="save"
  >
    <template v-if="!service">
      <label class="form-label" for="service-key">Key</label>
      <BFormInput
        id="service-key"
        v-model="draft.key"
        required
        maxlength="64"
        pattern="[a-z0-9][a-z0-9\-]*"
        placeholder="quick-drop"
        class="mb-3"
      />
    </template>
    <label class="form-label" for="service-name">Name</label>
    <BFormInput id="service-name" v-model="draft.name" maxlength="120" placeholder="Quick Drop" />
    <label class="form-label mt-3" for="service-hosts">Hosts, one a line</label>
    <BFormTextarea
      id="service-hosts"
      v-model="draft.hosts"
      required
      rows="3"
      placeholder="quickdrop.example"
    />
    <div class="pair">
      <div>
        <label class="form-label mt-3" for="service-suitability">Suitability, 0 to 100</label>
        <BFormInput
          id="service-suitability"
          v-model="draft.suitability"
          type="number"
          min="0"
          max="100"
          placeholder="not judged"
        />
      </div>
      <div>
        <label class="form-label mt-3" for="service-decision">Decision</label>
        <BFormSelect id="service-decision" v-model="draft.decision" :options="decisionValues" />
      </div>
    </div>
    <BButton v-if="service" variant="link" class="mt-2 px-0" @click="drop">Remove this service</BButton>
  </FormDialog>
</template>
