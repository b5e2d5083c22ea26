<script setup lang="ts">
import { computed, watchEffect } from 'vue'
import { useRoute, useRouter } from 'vue-router'

import { useSession } from '@/access/useSession'

const { data: session, isPending, error, refetch } = useSession()
const route = useRoute()
const router = useRouter()

watchEffect(() => {
  // nobody signed in: to the sign-in page, and back to where they wanted to go
  if (session.value === null && route.name && !isGate.value)
    void router.replace({ name: 'sign-in', query: { next: route.fullPath } })
})
/** The pages for who is not signed in. */
const isGate = computed(() => route.name === 'sign-in' || route.name === 'setup')
</script>

<template>
  <BApp>
    <main v-if="isPending || error" class="page">
      <StateBox :loading="isPending" :error="error" :rows="3" @retry="refetch()" />
    </main>
    <main v-else-if="session?.has_first_password && route.name !== 'sign-in'"><FirstPasswordPage /></main>
    <template v-else-if="session && !isGate">
      <TopBar :session="session" />
      <main id="content" tabindex="-1"><RouterView /></main>
      <PreviewDialog />
      <MadeToast />
    </template>
    <main v-else-if="isGate"><RouterView /></main>
    <RefusalToast />
  </BApp>
</template>
