<script setup lang="ts">
import { computed } from 'vue'
import { useRoute, useRouter } from 'vue-router'

import { useNouns } from './useNouns'

/** The objects of a noun that has no page of its own. */
const route = useRoute()
const router = useRouter()
const { data: nouns, isPending, error, refetch } = useNouns()
const noun = computed(() => nouns.value?.find(({ list }) => list === route.params.list))
const open = (object: string) => router.push({ name: 'objects', params: { list: noun.value!.list, object } })
</script>

<template>
  <div class="page">
    <ControlTabs />
    <PageHead :title="noun?.plural ?? 'Nothing here'"
      ><span>{{ noun?.about }}</span></PageHead
    >
    <StateBox :loading="isPending" :error="error" @retry="refetch()">
      <ObjectsPanel
        v-if="noun"
        :key="noun.list"
        :noun="noun"
        :chosen="String(route.params.object ?? '')"
        @open="open"
      />
      <p v-else class="sub">Administrators author nothing of that name.</p>
    </StateBox>
  </div>
</template>
