<script setup lang="ts">
import { computed, ref } from 'vue'
import { useRoute, useRouter } from 'vue-router'

import { useNouns } from '@/nouns/useNouns'
import DrawUpDialog from './DrawUpDialog.vue'

/** The probe sets: what should be stopped, what must go on working, and where. */
const route = useRoute()
const router = useRouter()
const { data: nouns, isPending, error, refetch } = useNouns()
const noun = computed(() => nouns.value?.find(({ list }) => list === 'probe_sets'))
const drawing = ref(false)
const open = (object: string) => router.push({ name: 'probe-sets', params: { object } })
</script>

<template>
  <div class="page">
    <VerifyTabs />
    <PageHead title="Probe sets">
      <span>What should be stopped, and what must go on working; a run tries it on every machine.</span>
      <template #actions>
        <BButton v-needs:author variant="light" @click="drawing = true">Draw one up…</BButton>
      </template>
    </PageHead>
    <StateBox :loading="isPending" :error="error" @retry="refetch()">
      <ObjectsPanel
        v-if="noun"
        route="probe-sets"
        :noun="noun"
        :chosen="String(route.params.object ?? '')"
        @open="open"
      />
    </StateBox>
    <DrawUpDialog v-model="drawing" @saved="open" />
  </div>
</template>
