<script setup lang="ts">
import { ref, watchEffect } from 'vue'
import { useRoute, useRouter } from 'vue-router'

import { useSetupState } from './useSetup'
import { useSignIn } from './useSession'

const name = ref('')
const password = ref('')
const { mutate, isPending, error } = useSignIn()
const route = useRoute()
const router = useRouter()
const { data: setup } = useSetupState()
// where there is no administrator yet, nobody can sign in
watchEffect(() => {
  if (setup.value?.needed) void router.replace({ name: 'setup' })
})

function signIn() {
  mutate(
    { name: name.value.trim(), password: password.value },
    {
      onSuccess() {
        const next = String(route.query.next ?? '/')
        // only within the console: an address from outside cannot lead away
        void router.replace(next.startsWith('/') && !next.startsWith('//') ? next : '/')
      },
    },
  )
}
</script>

<template>
  <GateForm :error="error" :disabled="isPending" does="Sign in" @submit="signIn">
    <template #about>Sign in to see and decide what is stopped on which machines.</template>
    <label class="form-label" for="name">Name</label>
    <BFormInput id="name" v-model="name" autocomplete="username" required autofocus maxlength="120" />
    <label class="form-label" for="password">Password</label>
    <BFormInput id="password" v-model="password" type="password" autocomplete="current-password" required />
  </GateForm>
</template>
