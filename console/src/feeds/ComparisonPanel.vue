<script setup lang="ts">
import { useComparison } from './useFeeds'

/** What a generation of a feed changes: hosts by what is said of them before and after, and verdicts. */
const props = defineProps<{ feed: string; number: number }>()
const { data, isPending, error, refetch } = useComparison(
  () => props.feed,
  () => props.number,
)
const words = (categories: readonly string[]) => categories.join(', ') || 'nothing'
</script>

<template>
  <section class="panel flush" aria-label="What it changes">
    <h2>What generation {{ number }} changes</h2>
    <StateBox :loading="isPending" :error="error" :rows="4" @retry="refetch()">
      <template v-if="data">
        <p class="sub against">
          Against {{ data.against ? `generation ${data.against}` : 'nothing before' }}:
          {{ data.added.toLocaleString() }} new, {{ data.changed.toLocaleString() }} changed,
          {{ data.removed.toLocaleString() }} gone.
          <template v-if="!data.verdicts?.length">No verdict is another one.</template>
          <template v-if="!data.complete">
            Verdicts were looked at for {{ data.looked_at?.toLocaleString() }} of them, those that were
            visited first.</template
          >
        </p>
        <VerdictTable v-if="data.verdicts?.length" :verdicts="data.verdicts" />
        <BTableSimple v-if="data.transitions?.length" caption-top>
          <caption class="visually-hidden">
            Hosts of which something else is said
          </caption>
          <BThead
            ><BTr
              ><BTh>Said before</BTh><BTh>Says now</BTh><BTh class="text-end">Hosts</BTh
              ><BTh>Such as</BTh></BTr
            ></BThead
          >
          <BTbody>
            <BTr v-for="(transition, place) in data.transitions.slice(0, 20)" :key="place">
              <BTd class="sub">{{ words(transition.before) }}</BTd>
              <BTd>{{ words(transition.after) }}</BTd>
              <BTd class="text-end">{{ transition.hosts.toLocaleString() }}</BTd>
              <BTd
                ><RouterLink
                  v-for="host in transition.examples.slice(0, 2)"
                  :key="host"
                  :to="{ name: 'find', query: { q: host } }"
                  class="me-2"
                  ><code>{{ host }}</code></RouterLink
                ></BTd
              >
            </BTr>
          </BTbody>
        </BTableSimple>
      </template>
    </StateBox>
  </section>
</template>

<style scoped>
.against {
  padding: 0 1.1rem;
  margin-bottom: 0.5rem;
}
</style>
