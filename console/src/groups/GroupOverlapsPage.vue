<script setup lang="ts">
import { useRouter } from 'vue-router'

const router = useRouter()
const compare = (groups: [string, string]) =>
  router.push({ name: 'board', query: { groups: groups.join(',') } })
</script>

<template>
  <div class="page">
    <BoardTabs />
    <PageHead title="How groups overlap">
      <span>Choose a square to see what its two groups say, and what wins.</span>
    </PageHead>
    <div class="mt-3"><GroupMatrix @choose="compare" /></div>
  </div>
</template>
