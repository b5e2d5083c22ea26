<script setup lang="ts">
import { ref } from 'vue'
import { useRoute, useRouter } from 'vue-router'

import { useSignIn } from './useSession'

const name = ref('')
const password = ref('')
const { mutate, isPending, error } = useSignIn()
const route = useRoute()
const router = useRouter()

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
  <div class="gate">
    <form class="panel" @submit.prevent="signIn">
      <h1><Icon name="doorClosed" class="door" /> Portero</h1>
      <p class="sub">Sign in to see and decide what is stopped on which machines.</p>
      <label class="form-label" for="name">Name</label>
      <BFormInput id="name" v-model="name" autocomplete="username" required autofocus maxlength="120" />
      <label class="form-label" for="password">Password</label>
      <BFormInput id="password" v-model="password" type="password" autocomplete="current-password" required />
      <p v-if="error" class="wrong" role="alert"><Icon name="exclamation" /> {{ error.message }}</p>
      <BButton type="submit" variant="primary" :disabled="isPending">Sign in</BButton>
    </form>
  </div>
</template>

<style scoped>
.gate {
  min-height: 100vh;
  display: grid;
  place-items: start center;
  padding-top: 16vh;
}
form {
  width: 22rem;
  display: grid;
  gap: 0.35rem;
}
h1 {
  margin-bottom: 0.2rem;
}
.door {
  color: var(--brass-2);
}
.form-label {
  margin-top: 0.5rem;
}
.btn {
  margin: 1rem 0 0.4rem;
}
.wrong {
  color: var(--block);
  margin: 0.6rem 0 0;
}
</style>
