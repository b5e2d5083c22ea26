<script setup lang="ts">
import { ref } from 'vue'

import { useChangePassword } from './usePassword'
import { useSession, useSignOut } from './useSession'

/** For who signed in with a first password: nothing else is done before it is changed. */
const { data: session } = useSession()
const password = ref('')
const changed = ref('')
const { mutate, isPending, error } = useChangePassword()
const { mutate: signOut } = useSignOut()
</script>

<template>
  <GateForm
    :error="error"
    :disabled="isPending"
    does="Change it and go on"
    @submit="mutate({ password, new_password: changed })"
  >
    <template #about
      >{{ session?.name }}, your password is the first one, which the service made. Choose one of your own
      before you go on.</template
    >
    <label class="form-label" for="present">The first password, once more</label>
    <BFormInput
      id="present"
      v-model="password"
      type="password"
      autocomplete="current-password"
      required
      autofocus
    />
    <label class="form-label" for="new">Your own</label>
    <NewPasswordInput id="new" v-model="changed" />
    <template #below><BButton variant="link" @click="signOut()">Sign out</BButton></template>
  </GateForm>
</template>
