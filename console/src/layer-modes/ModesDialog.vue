<script setup lang="ts">
import { computed, reactive, ref, watch } from 'vue'

import { layerModeValues } from '@/api/schema'
import type { GroupLayers, LayerMode, LayerName } from '@/api/client'
import { useGroups } from '@/groups/useGroups'
import { LAYERS } from './layers'
import { usePutLayerModes } from './useLayerModes'

/** What layers should do on a group's devices. */
const props = defineProps<{ modes: GroupLayers[]; group?: string }>()
const shown = defineModel<boolean>({ required: true })
const put = usePutLayerModes()
const { data: groups } = useGroups()
const draft = reactive<{ group: string } & Record<LayerName, string>>({
  group: '',
  filter: '',
  browser: '',
  startup: '',
})
/** What the group said when it was chosen. */
const known = ref<GroupLayers>()
const groupOptions = computed(() => [
  { value: '', text: 'Choose a group' },
  ...(groups.value ?? []).map(({ key, name }) => ({ value: key, text: name })),
])
const modeOptions = [
  { value: '', text: 'left to weaker groups' },
  ...layerModeValues.map((mode) => ({ value: mode, text: mode })),
]

watch(shown, () => {
  put.reset()
  draft.group = shown.value ? (props.group ?? '') : ''
})
watch(
  () => draft.group,
  () => {
    known.value = props.modes.find(({ group }) => group === draft.group)
    for (const { key } of LAYERS) draft[key] = known.value?.[key] ?? ''
  },
)
function save() {
  const modes = Object.fromEntries(LAYERS.map(({ key }) => [key, (draft[key] || null) as LayerMode | null]))
  put.plan(
    { body: { group: draft.group, ...modes }, version: known.value?.version },
    { title: `layer modes of ${draft.group}`, onSuccess: () => (shown.value = false) },
  )
}
</script>

<template>
  <FormDialog
    v-model="shown"
    title="Layer modes of a group"
    does="Save"
    :error="put.error.value"
    :disabled="!draft.group || put.isPending.value"
    @submit="save"
  >
    <label class="form-label" for="modes-group">Group</label>
    <BFormSelect id="modes-group" v-model="draft.group" :options="groupOptions" :disabled="Boolean(group)" />
    <template v-for="layer in LAYERS" :key="layer.key">
      <label class="form-label mt-3" :for="`modes-${layer.key}`">{{ layer.name }}</label>
      <BFormSelect :id="`modes-${layer.key}`" v-model="draft[layer.key]" :options="modeOptions" />
    </template>
  </FormDialog>
</template>
