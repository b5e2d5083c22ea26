<script setup lang="ts">
import { refDebounced } from '@vueuse/core'
import { useRouteQuery } from '@vueuse/router'
import { computed, ref } from 'vue'
import { useRouter } from 'vue-router'

import { useApplicationSets, sets } from '@/application-sets/useApplicationSets'
import { counted, plain } from '@/lib/words'
import { type CatalogueEntry, type CatalogueFilters, useCatalogue, usePurposes } from './useCatalogue'

/** The programs of the fleet; those that are ticked go into an application set. */
const router = useRouter()
const q = useRouteQuery('q', '')
const category = useRouteQuery('category', '')
const age = useRouteQuery<string>('age', '')
const sought = refDebounced(q, 250)
const filters = computed<CatalogueFilters>(() => ({
  q: sought.value.trim() || undefined,
  category: category.value || undefined,
  new: age.value === 'new' || undefined,
  gone: age.value === 'gone' || undefined,
  corrected: age.value === 'corrected' || undefined,
  known: age.value === 'known' || undefined,
  limit: 100,
}))
const { items, total, isPending, error, refetch, hasNextPage, isFetchingNextPage, fetchNextPage } =
  useCatalogue(filters)
const { data: purposes } = usePurposes()
const categories = computed(() => [
  { value: '', text: 'For anything' },
  ...(purposes.value ?? []).map(({ category, programs }) => ({
    value: category,
    text: `${plain(category)} (${programs})`,
  })),
])
const AGES = [
  { value: '', text: 'On the fleet now' },
  { value: 'new', text: 'New this week' },
  { value: 'gone', text: 'On no machine any more' },
  { value: 'known', text: 'Known by feeds, on no machine' },
  { value: 'corrected', text: 'Put right: what they are for' },
]
const shown = ref<number>()
const isNew = (at: string) => Date.now() - new Date(at).getTime() < 7 * 86_400_000

// --- ticked, into a set ---

const ticked = ref<CatalogueEntry[]>([])
const isTicked = (one: CatalogueEntry) => ticked.value.some(({ id }) => id === one.id)
function tick(one: CatalogueEntry) {
  ticked.value = isTicked(one) ? ticked.value.filter(({ id }) => id !== one.id) : [...ticked.value, one]
}
const NEW = '+new'
const into = ref(NEW)
const { data: known } = useApplicationSets()
const put = sets.usePut()
const choices = computed(() => [
  { value: NEW, text: 'a new set' },
  ...(known.value ?? [])
    .filter(({ following }) => following)
    .map(({ key, name }) => ({ value: key, text: name })),
])
function take() {
  const include = ticked.value.map(({ condition }) => condition)
  const set = known.value?.find(({ key }) => key === into.value)
  if (!set) {
    const state = { include: JSON.stringify(include) }
    return router.push({ name: 'application-sets', params: { set: NEW }, state })
  }
  const { key, name, following, exclude, sets: others, watches, version } = set
  const body = {
    ...{ key, name, following, exclude, watches, sets: others },
    include: [...(set.include ?? []), ...include],
  }
  put.plan(
    { body, version },
    {
      title: `${counted(include.length, 'program')} into ${set.key}`,
      onSuccess: () => (ticked.value = []),
    },
  )
}
</script>

<template>
  <div class="page">
    <ControlTabs />
    <PageHead title="Catalogue">
      <span>The programs of the fleet, as machines tell of them. Tick some to make a set of them.</span>
    </PageHead>
    <div class="split" :class="{ beside: shown !== undefined }">
      <section class="panel flush mt-3" aria-label="Programs">
        <div class="tools">
          <BFormInput
            v-model="q"
            type="search"
            placeholder="Find a program or a vendor"
            aria-label="Find a program or a vendor"
          />
          <BFormSelect v-model="category" class="short" aria-label="What it is for" :options="categories" />
          <BFormSelect v-model="age" class="short" aria-label="Since when" :options="AGES" />
          <span class="small dim ms-auto" role="status">{{ counted(total, 'program') }}</span>
        </div>
        <form v-if="ticked.length" v-needs:author class="tools" @submit.prevent="take">
          <b>{{ ticked.length }} ticked</b>
          <label for="catalogue-into">into</label>
          <BFormSelect id="catalogue-into" v-model="into" class="short" :options="choices" />
          <BButton type="submit" variant="light">Take them in</BButton>
          <BButton variant="link" @click="ticked = []">Untick all</BButton>
          <span v-if="put.error.value" class="wrong" role="alert">{{ put.error.value.message }}</span>
        </form>
        <StateBox :loading="isPending" :error="error" :empty="!items.length" @retry="refetch()">
          <template #empty><p class="sub mb-0">No machine tells of such a program.</p></template>
          <BTableSimple caption-top>
            <caption class="visually-hidden">
              Programs of the fleet
            </caption>
            <BThead>
              <BTr
                ><BTh class="box"><span class="visually-hidden">Tick</span></BTh
                ><BTh>Program</BTh><BTh>For</BTh><BTh class="text-end">Machines</BTh
                ><BTh class="text-end">Starts</BTh><BTh>Versions</BTh><BTh>First seen</BTh></BTr
              >
            </BThead>
            <BTbody>
              <BTr v-for="one in items" :key="one.id" :class="{ chosen: shown === one.id }">
                <BTd class="box"
                  ><input
                    type="checkbox"
                    class="form-check-input"
                    :checked="isTicked(one)"
                    :aria-label="`Tick ${one.name}`"
                    @change="tick(one)"
                /></BTd>
                <BTd
                  ><button type="button" class="name" @click="shown = shown === one.id ? undefined : one.id">
                    {{ one.name }}
                  </button>
                  <div class="small dim">{{ one.vendor ?? 'no vendor' }}</div></BTd
                >
                <BTd
                  >{{ one.category ? plain(one.category) : '–' }}
                  <div v-if="one.is_corrected" class="small dim">corrected</div></BTd
                >
                <BTd class="text-end">{{ one.devices.toLocaleString() }}</BTd>
                <BTd class="text-end">{{ one.starts?.toLocaleString() }}</BTd>
                <BTd
                  >{{ one.newest ?? '–'
                  }}<span v-if="one.versions > 1" class="small dim">, {{ one.versions - 1 }} older</span></BTd
                >
                <BTd class="text-nowrap"
                  ><RelativeTime :at="one.first_seen" />
                  <span v-if="isNew(one.first_seen)" class="small dim">new</span></BTd
                >
              </BTr>
            </BTbody>
          </BTableSimple>
          <div v-if="hasNextPage" class="text-center p-3">
            <BButton variant="light" :disabled="isFetchingNextPage" @click="fetchNextPage()"
              >Show 100 more</BButton
            >
          </div>
        </StateBox>
      </section>
      <ProgramPanel v-if="shown !== undefined" :id="shown" :key="shown" class="mt-3" />
    </div>
  </div>
</template>

<style scoped>
.split.beside {
  display: grid;
  grid-template-columns: minmax(0, 3fr) minmax(0, 2fr);
  gap: 1.25rem;
  align-items: start;
}
.beside > :last-child {
  position: sticky;
  top: 4.5rem;
}
.tools {
  display: flex;
  flex-wrap: wrap;
  align-items: center;
  gap: 0.6rem;
  padding: 0.6rem 1.1rem;
  border-bottom: 1px solid var(--line);
}
.tools > input {
  flex: 1 1 14rem;
  max-width: 22rem;
}
.short {
  width: auto;
}
.box {
  width: 2rem;
}
.name {
  padding: 0;
  border: 0;
  background: none;
  color: inherit;
  font-weight: 600;
  text-align: left;
  min-height: 24px;
}
.name:hover {
  text-decoration: underline;
}
.chosen {
  background: var(--wash);
}
.wrong {
  color: var(--block);
}
</style>
