<script setup lang="ts">
import { ref, watch } from 'vue'

import { useChangePassword } from './usePassword'

/** Change one's own password. */
const shown = defineModel<boolean>({ required: true })
const password = ref('')
const changed = ref('')
const { mutate, isPending, error, isSuccess, reset } = useChangePassword()
watch(shown, () => {
  reset()
  password.value = changed.value = ''
})
</script>

<template>
  <FormDialog
    v-model="shown"
    title="Your password"
    does="Change it"
    :error="error"
    :disabled="isPending"
    @submit="mutate({ password, new_password: changed })"
  >
    <template v-if="isSuccess" #done>
      <p>Your password is changed. Your other sessions have ended; tokens are good as before.</p>
    </template>
    <label class="form-label" for="present-password">The one that you have</label>
    <BFormInput
      id="present-password"
      v-model="password"
      type="password"
      autocomplete="current-password"
      required
    />
    <label class="form-label mt-3" for="new-password">The new one</label>
    <NewPasswordInput id="new-password" v-model="changed" />
  </FormDialog>
</template>
