<script setup lang="ts">
import { computed, ref } from 'vue'
import { useRoute } from 'vue-router'

import { useCategoryIndex } from '@/categories/useTaxonomy'
import { type Feed, useFeeds } from './useFeeds'

/** Feeds: where each comes from, what is in force of it, and what came of the last time that it was read. */
const route = useRoute()
const { data: feeds, isPending, error, refetch } = useFeeds()
const { data: index } = useCategoryIndex()
const chosen = computed(
  () =>
    feeds.value?.find(({ key }) => key === route.params.feed) ??
    (route.params.feed ? undefined : feeds.value?.[0]),
)
const shown = ref(false)
const edited = ref<Feed>()
function edit(feed?: Feed) {
  edited.value = feed
  shown.value = true
}
function small(one: Feed) {
  if (one.progress) return `${one.progress.stage}…`
  if (one.last_poll?.result === 'failed') return 'failed; the generation before holds'
  if (one.waiting) return 'waits to be looked at'
  return one.in_force ? `${one.in_force.entries.toLocaleString()} ${ENTRIES[one.kind]}` : 'nothing yet'
}
const ENTRIES = { categories: 'hosts', indicators: 'indicators', programs: 'versions of programs' }
const kb = (bytes: number) => `${Math.ceil(bytes / 1000).toLocaleString()} kB`
</script>

<template>
  <div class="page">
    <ControlTabs />
    <PageHead title="Feeds">
      <template #actions>
        <BButton v-needs:keeper variant="light" @click="edit()"><Icon name="plus" /> New feed…</BButton>
      </template>
      <span v-if="index"
        ><b>{{ index.hosts.toLocaleString() }}</b> hosts in the category index, made
        <RelativeTime :at="index.made_at" /></span
      ><span v-if="index"
        >machines with an older one fetch <b>{{ kb(index.difference_bytes ?? 0) }}</b>, new ones
        {{ kb(index.base_bytes + (index.difference_bytes ?? 0)) }}</span
      ><span v-if="index"
        ><b>{{ index.devices_current }}</b> machines have it, {{ index.devices_behind }} not yet</span
      >
    </PageHead>
    <StateBox :loading="isPending" :error="error" :empty="!feeds?.length" @retry="refetch()">
      <template #empty
        ><p class="sub mb-0">
          There is no feed yet, so only hosts that you correct have categories. Make the first one.
        </p></template
      >
      <div class="columns">
        <KeyedList
          :items="feeds ?? []"
          label="Feeds"
          route="feeds"
          param="feed"
          :current="chosen?.key"
          :small="small"
          empty="There is no feed yet."
        />
        <FeedDetail v-if="chosen" :key="chosen.key" :feed="chosen" @edit="edit(chosen)" />
        <div v-else class="panel">
          <p class="sub mb-0">There is no feed “{{ route.params.feed }}”.</p>
        </div>
      </div>
    </StateBox>
    <FeedDialog v-model="shown" :feed="edited" />
  </div>
</template>
