<script setup lang="ts">
import { ref, watchEffect } from 'vue'
import { useRouter } from 'vue-router'

import { useSetUp, useSetupState } from './useSetup'

/** The first administrator, made by whoever sees the service's terminal. */
const code = ref('')
const name = ref('')
const password = ref('')
const { data: setup } = useSetupState()
const { mutate, isPending, error } = useSetUp()
const router = useRouter()
watchEffect(() => {
  if (setup.value && !setup.value.needed) void router.replace({ name: 'overview' })
})
function setUp() {
  mutate({ code: code.value.trim(), name: name.value.trim(), password: password.value })
}
</script>

<template>
  <GateForm :error="error" :disabled="isPending" does="Make it and sign in" @submit="setUp">
    <template #about
      >There is no administrator yet. The service printed a setup code to its terminal when it was started;
      with it you make the first one, a keeper.</template
    >
    <label class="form-label" for="code">Setup code</label>
    <BFormInput id="code" v-model="code" class="mono" required autofocus maxlength="40" autocomplete="off" />
    <label class="form-label" for="name">Your name here</label>
    <BFormInput
      id="name"
      v-model="name"
      autocomplete="username"
      required
      maxlength="64"
      placeholder="it-desk"
    />
    <label class="form-label" for="password">A password</label>
    <NewPasswordInput id="password" v-model="password" />
  </GateForm>
</template>
