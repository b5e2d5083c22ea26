<script setup lang="ts">
import { useGoverning } from './useRevisions'

/** Everything that governs a machine, with who last changed it; the latest first. */
const props = defineProps<{ device: string }>()
const { data, isPending, error, refetch } = useGoverning(() => props.device)
</script>

<template>
  <h2 class="mt-3">Who last changed what governs it</h2>
  <StateBox :loading="isPending" :error="error" :empty="data?.length === 0" :rows="4" @retry="refetch()">
    <template #empty><p class="sub mb-0">Nothing that governs it was changed yet.</p></template>
    <BTableSimple small caption-top>
      <caption class="visually-hidden">
        What governs this machine, the latest change first
      </caption>
      <BThead
        ><BTr><BTh>What</BTh><BTh>Why it governs</BTh><BTh>Last changed</BTh></BTr></BThead
      >
      <BTbody>
        <BTr v-for="one in data" :key="`${one.noun} ${one.key}`">
          <BTd class="what"
            ><b>{{ one.noun }} {{ one.key }}</b>
            <div class="small sub">{{ one.sentence }}</div></BTd
          >
          <BTd class="small">{{ one.because }}</BTd>
          <BTd class="small text-nowrap mixed">
            <RouterLink :to="{ name: 'history', params: { number: one.revision } }"
              >revision {{ one.revision }}</RouterLink
            >, <RelativeTime :at="one.at" />
            <div class="dim">{{ one.by }}</div>
          </BTd>
        </BTr>
      </BTbody>
    </BTableSimple>
  </StateBox>
</template>

<style scoped>
h2 {
  font-size: 1rem;
}
.what {
  overflow-wrap: anywhere;
}
</style>
