<script setup lang="ts">
import { computed, ref, watch } from 'vue'

import { tokenRoleValues } from '@/api/schema'
import { useMakeToken } from './useAccess'
import { useSession } from './useSession'

/** Make an API token for a program; it is shown once. */
const shown = defineModel<boolean>({ required: true })
const make = useMakeToken()
const { data: session } = useSession()
const label = ref('')
const role = ref<(typeof tokenRoleValues)[number]>('reader')
const days = ref('30')
const LASTS = [
  { value: '1', text: 'a day' },
  { value: '30', text: 'a month' },
  { value: '90', text: 'three months' },
  { value: '365', text: 'a year' },
]
/** The roles up to one's own. */
const roles = computed(() =>
  tokenRoleValues.slice(0, tokenRoleValues.indexOf(session.value?.role ?? 'reader') + 1),
)
watch(shown, () => {
  make.reset()
  label.value = ''
  role.value = 'reader'
  days.value = '30'
})
function save() {
  make.mutate({ label: label.value.trim(), role: role.value, days: Number(days.value) })
}
</script>

<template>
  <FormDialog
    v-model="shown"
    title="New API token"
    does="Make token"
    :error="make.error.value"
    :disabled="make.isPending.value"
    @submit="save"
  >
    <template v-if="make.data.value" #done>
      <p>This token is shown once. Keep it where the program that needs it finds it, and nobody else.</p>
      <p class="secret">{{ make.data.value.secret }}</p>
    </template>
    <label class="form-label" for="token-label">What it is for</label>
    <BFormInput id="token-label" v-model="label" required maxlength="120" placeholder="the nightly report" />
    <div class="pair my-3">
      <div>
        <label class="form-label" for="token-role">It may what is allowed to</label>
        <BFormSelect id="token-role" v-model="role" :options="[...roles]" />
      </div>
      <div>
        <label class="form-label" for="token-days">It lasts</label>
        <BFormSelect id="token-days" v-model="days" :options="LASTS" />
      </div>
    </div>
  </FormDialog>
</template>
