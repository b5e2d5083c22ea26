<script setup lang="ts">
import { BFormCheckbox, BFormInput, BFormSelect, BModal } from 'bootstrap-vue-next'
import { computed, ref, watch } from 'vue'

import { useGroups } from '../api/groups'
import { useAssign } from '../api/policy'
import Icon from './Icon.vue'

/** Put a ruleset on groups: which, how strongly, and why. */
const props = defineProps<{ ruleset: string }>()
const shown = defineModel<boolean>({ required: true })
const { data: groups } = useGroups()
const assign = useAssign()

const to = ref<string[]>([])
const action = ref<'log' | 'warn' | 'block' | ''>('')
const mandatory = ref(false)
const reason = ref('')
const OVERRIDES = [
  { value: '', text: 'Each rule as it says' },
  { value: 'log', text: 'Only record, for all of it' },
  { value: 'warn', text: 'Warn, for all that warns or blocks' },
  { value: 'block', text: 'Block, for all that warns or blocks' },
]
const reached = computed(() =>
  Math.max(0, ...(groups.value ?? []).filter(({ key }) => to.value.includes(key)).map((one) => one.devices)),
)

watch(shown, () => {
  to.value = []
  action.value = ''
  mandatory.value = false
  reason.value = ''
  assign.reset()
})

function put(state: 'active' | 'draft') {
  assign.mutate(
    {
      ruleset: props.ruleset,
      to: to.value,
      action: action.value || null,
      mandatory: mandatory.value,
      state,
      reason: reason.value.trim() || null,
    },
    { onSuccess: () => (shown.value = false) },
  )
}
</script>

<template>
  <BModal v-model="shown" :title="`Assign ${ruleset}`" title-tag="h2" no-footer>
    <form @submit.prevent="put('active')">
      <fieldset class="groups">
        <legend class="form-label">Groups, strongest first</legend>
        <BFormCheckbox v-for="group in groups" :key="group.key" v-model="to" :value="group.key">
          {{ group.key }} <span class="dim small">{{ group.devices }}</span>
        </BFormCheckbox>
      </fieldset>
      <label class="form-label" for="override">Action</label>
      <BFormSelect id="override" v-model="action" :options="OVERRIDES" />
      <BFormCheckbox v-model="mandatory" class="mt-3"
        ><Icon name="nut" /> Mandatory: no ordinary assignment can undo it</BFormCheckbox
      >
      <label class="form-label mt-3" for="reason">Reason</label>
      <BFormInput id="reason" v-model="reason" maxlength="2000" placeholder="Crew on satellite links" />
      <p v-if="assign.error.value" class="wrong" role="alert">
        <Icon name="exclamation" /> {{ assign.error.value.message }}
      </p>
      <div class="buttons">
        <span class="dim" role="status">{{
          to.length ? `Reaches ${reached} machines or more` : 'Choose at least one group'
        }}</span>
        <button type="button" class="btn btn-light" :disabled="!to.length" @click="put('draft')">
          Keep as draft
        </button>
        <button type="submit" class="btn btn-primary" :disabled="!to.length || assign.isPending.value">
          Put in force
        </button>
      </div>
    </form>
  </BModal>
</template>

<style scoped>
.groups {
  display: grid;
  grid-template-columns: 1fr 1fr;
  gap: 0.1rem 1rem;
  margin-bottom: 0.9rem;
}
.groups legend {
  grid-column: 1 / -1;
  font-size: inherit;
}
.wrong {
  color: var(--block);
  margin: 0.7rem 0 0;
}
.buttons {
  display: flex;
  align-items: center;
  justify-content: flex-end;
  gap: 0.5rem;
  margin-top: 1.1rem;
}
.buttons .dim {
  margin-right: auto;
}
</style>
