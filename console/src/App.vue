<script setup lang="ts">
import { watchEffect } from 'vue'
import { useRoute, useRouter } from 'vue-router'

import { useSession } from '@/access/useSession'

const { data: session, isPending, error, refetch } = useSession()
const route = useRoute()
const router = useRouter()

watchEffect(() => {
  // nobody signed in: to the sign-in page, and back to where they wanted to go
  if (session.value === null && route.name && route.name !== 'sign-in')
    void router.replace({ name: 'sign-in', query: { next: route.fullPath } })
})
</script>

<template>
  <BApp>
    <div v-if="isPending || error" class="page">
      <StateBox :loading="isPending" :error="error" :rows="3" @retry="refetch()" />
    </div>
    <template v-else-if="session && route.name !== 'sign-in'">
      <TopBar :session="session" />
      <main id="content" tabindex="-1"><RouterView /></main>
      <PreviewDialog />
    </template>
    <main v-else-if="route.name === 'sign-in'"><RouterView /></main>
  </BApp>
</template>
