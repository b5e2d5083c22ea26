<script setup lang="ts">
import { useRouteQuery } from '@vueuse/router'
import { computed, ref } from 'vue'

import { counted } from '@/lib/words'
import { useCategorySearch } from './useCategories'
import { useCategoryIndex, useGrounds } from './useTaxonomy'

/** The web taxonomy: what each category means, and the test host with which it can be tried. */
const { data: index } = useCategoryIndex()
const grounds = useGrounds()
const sought = ref('')
const ground = useRouteQuery<string>('ground', '')
const { families: found, isPending, error, refetch } = useCategorySearch(sought)
const families = computed(() =>
  found.value
    .map((family) => ({
      ...family,
      categories: family.categories.filter((one) => !ground.value || one.ground === ground.value),
    }))
    .filter(({ categories }) => categories.length),
)
const trying = ref(false)
const url = ref('')
function tryOut(host: string) {
  url.value = `http://${host}/`
  trying.value = true
}
</script>

<template>
  <div class="page">
    <ControlTabs />
    <PageHead title="Taxonomy">
      <span
        >What each web category means, and a host that is always in it, to try a block without visiting
        it.</span
      >
      <span v-if="index"
        ><b>{{ index.hosts.toLocaleString() }}</b> hosts have an entry, made
        <RelativeTime :at="index.made_at" />,
        <RouterLink :to="{ name: 'feeds' }"
          >of {{ Object.keys(index.generations ?? {}).length || 'no' }} feeds</RouterLink
        >; {{ counted(index.devices_current, 'machine') }} up to date, {{ index.devices_behind }} not
        yet</span
      >
    </PageHead>
    <StateBox :loading="isPending" :error="error" @retry="refetch()">
      <section class="panel flush mt-3" aria-label="Categories">
        <div class="tools">
          <BFormInput
            v-model="sought"
            type="search"
            placeholder="Find a category"
            aria-label="Find a category"
          />
          <BFormSelect
            v-model="ground"
            aria-label="Ground"
            :options="[{ value: '', text: 'on any ground' }, ...grounds]"
          />
        </div>
        <BTableSimple caption-top>
          <caption class="visually-hidden">
            Web categories
          </caption>
          <BThead
            ><BTr
              ><BTh>Category</BTh><BTh>What it means</BTh><BTh>Ground</BTh><BTh>Test host</BTh
              ><BTh><span class="visually-hidden">Next step</span></BTh></BTr
            ></BThead
          >
          <BTbody v-for="family in families" :key="family.key">
            <BTr class="family"
              ><BTh colspan="5" scope="rowgroup"
                >{{ family.name }} <code class="dim">{{ family.key }}</code></BTh
              ></BTr
            >
            <BTr v-for="category in family.categories" :key="category.key">
              <BTd class="text-nowrap"
                >{{ category.name }} <code class="small dim">{{ category.key }}</code></BTd
              >
              <BTd class="sub"
                >{{ category.definition }}
                <template v-if="category.key === 'newly-registered' && index"
                  >Here: less than {{ index.newly_registered_days }} days ago.</template
                ></BTd
              >
              <BTd class="sub">{{ category.ground }}</BTd>
              <BTd
                ><RouterLink :to="{ name: 'find', query: { q: category.test_host } }"
                  ><code>{{ category.test_host }}</code></RouterLink
                ></BTd
              >
              <BTd class="text-end text-nowrap"
                ><BButton
                  variant="link"
                  class="p-0"
                  :aria-label="`Try it… with ${category.name}`"
                  @click="tryOut(category.test_host)"
                  >Try it…</BButton
                ></BTd
              >
            </BTr>
          </BTbody>
        </BTableSimple>
        <p v-if="!families.length" class="sub p-3 mb-0">No category matches.</p>
      </section>
    </StateBox>
    <TryDialog v-model="trying" :url="url" />
  </div>
</template>

<style scoped>
.tools {
  display: flex;
  gap: 0.75rem;
  padding: 0.6rem 1.1rem;
}
.tools > * {
  max-width: 16rem;
}
.family th {
  background: var(--wash);
}
</style>
