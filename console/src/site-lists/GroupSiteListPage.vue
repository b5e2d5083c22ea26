<script setup lang="ts">
import { computed } from 'vue'
import { useRoute } from 'vue-router'

import BrowserListView from './BrowserListView.vue'

const route = useRoute()
const group = computed(() => String(route.params.group))
</script>

<template>
  <div class="page">
    <PageHead :title="`Site list of ${group}`">
      <template #crumbs>
        <RouterLink :to="{ name: 'groups' }">Groups</RouterLink> /
        <RouterLink :to="{ name: 'groups', params: { group } }">{{ group }}</RouterLink>
      </template>
      <span
        >What a browser gets on a machine that is in this group alone, as for machines without an agent.</span
      >
    </PageHead>
    <BrowserListView :whose="{ group }" class="mt-3" />
  </div>
</template>
