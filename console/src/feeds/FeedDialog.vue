<script setup lang="ts">
import { computed, ref, watch } from 'vue'

import { feedKindValues, overrideValues } from '@/api/schema'
import {
  type Feed,
  type FeedBody,
  useCreateFeed,
  usePutFeed,
  useRemoveFeed,
  useSetCredential,
} from './useFeeds'

/** Make a feed, or change one: where it comes from, how often, and what its words mean. */
const props = defineProps<{ feed?: Feed }>()
const shown = defineModel<boolean>({ required: true })
const create = useCreateFeed()
const put = usePutFeed()
const remove = useRemoveFeed()
const credential = useSetCredential()
const error = computed(
  () => create.error.value ?? put.error.value ?? remove.error.value ?? credential.error.value,
)
const saving = computed(() => create.isPending.value || put.isPending.value)
const FORMATS = {
  categories: [
    { value: 'csv', text: 'CSV: host, categories, registered_on' },
    { value: 'host-list', text: 'plain list, a host a line' },
    { value: 'hosts-file', text: 'hosts file' },
  ],
  indicators: [
    { value: 'taxii', text: 'TAXII 2.1 collection' },
    { value: 'stix', text: 'STIX 2.1 bundle' },
    { value: 'csv', text: 'CSV of rules' },
    { value: 'host-list', text: 'plain list, a host a line' },
    { value: 'hosts-file', text: 'hosts file' },
  ],
  programs: [{ value: 'csv', text: 'CSV: product, vendor, version, category, …' }],
}
const EVERY = [
  { value: '', text: 'only when asked' },
  { value: '30', text: 'every 30 minutes' },
  { value: '60', text: 'every hour' },
  { value: '360', text: 'every 6 hours' },
  { value: '1440', text: 'every day' },
  { value: '10080', text: 'every week' },
]
const draft = ref({
  key: '',
  name: '',
  kind: 'categories' as Feed['kind'],
  format: 'csv' as Feed['format'],
  address: '',
  every: '',
  source: '',
  licence: '',
  categories: [] as string[],
  mapping: '',
  action: 'block' as NonNullable<Feed['action']>,
  lifetime: '',
  review: false,
  private: false,
  user: '',
  secret: '',
})
const known = ref<Feed>()
const everyOptions = computed(() =>
  draft.value.every && !EVERY.some(({ value }) => value === draft.value.every)
    ? [...EVERY, { value: draft.value.every, text: `every ${draft.value.every} minutes` }]
    : EVERY,
)
watch(shown, () => {
  for (const one of [create, put, remove, credential]) one.reset()
  const feed = (known.value = shown.value ? props.feed : undefined)
  draft.value = {
    key: feed?.key ?? '',
    name: feed && feed.name !== feed.key ? feed.name : '',
    kind: feed?.kind ?? 'categories',
    format: feed?.format ?? 'csv',
    address: feed?.address ?? '',
    every: feed?.every_minutes?.toString() ?? '',
    source: feed?.source ?? '',
    licence: feed?.licence ?? '',
    categories: [...(feed?.categories ?? [])],
    mapping: Object.entries(feed?.mapping ?? {})
      .map(([word, categories]) => `${word} = ${categories.join(', ')}`)
      .join('\n'),
    action: feed?.action ?? 'block',
    lifetime: feed?.lifetime_days?.toString() ?? '',
    review: feed?.review ?? false,
    private: feed?.private_network ?? false,
    user: '',
    secret: '',
  }
})
watch(
  () => draft.value.kind,
  (kind) => {
    if (!FORMATS[kind].some(({ value }) => value === draft.value.format))
      draft.value.format = FORMATS[kind][0].value as Feed['format']
  },
)
const keys = (text: string) => text.split(/[\s,]+/).filter(Boolean)
function body(): FeedBody {
  const [categories, indicators] = [draft.value.kind === 'categories', draft.value.kind === 'indicators']
  const lines = draft.value.mapping.split('\n').filter((line) => line.includes('='))
  return {
    key: draft.value.key.trim(),
    name: draft.value.name.trim() || null,
    kind: draft.value.kind,
    format: draft.value.format,
    address: draft.value.address.trim() || null,
    every_minutes: draft.value.every ? Number(draft.value.every) : null,
    source: draft.value.source.trim() || null,
    licence: draft.value.licence.trim() || null,
    categories: categories ? draft.value.categories : [],
    mapping: categories
      ? Object.fromEntries(lines.map((line) => [line.split('=')[0].trim(), keys(line.split('=')[1])]))
      : {},
    action: indicators ? (draft.value.action as 'warn' | 'block' | 'log') : null,
    lifetime_days: indicators && draft.value.lifetime ? Number(draft.value.lifetime) : null,
    review: draft.value.review,
    private_network: draft.value.private,
  }
}
function save() {
  const made = body()
  const title = `feed ${made.key}`
  const onSuccess = () => {
    if (draft.value.secret) {
      const given = draft.value.user
        ? { user: draft.value.user, password: draft.value.secret }
        : { token: draft.value.secret }
      credential.mutate({ feed: made.key, body: given }, { onSuccess: () => (shown.value = false) })
    } else shown.value = false
  }
  if (known.value) put.plan({ body: made, version: known.value.version }, { title, onSuccess })
  else create.plan(made, { title: `new ${title}`, onSuccess })
}
function drop() {
  const { key, version } = known.value!
  remove.plan({ key, version }, { title: `remove feed ${key}`, onSuccess: () => (shown.value = false) })
}
</script>

<template>
  <FormDialog
    v-model="shown"
    :title="feed ? `Feed ${feed.key}` : 'New feed'"
    size="lg"
    :does="feed ? 'Save' : 'Make feed'"
    :error="error"
    :disabled="saving"
    @submit="save"
  >
    <div class="pairs">
      <div v-if="!feed">
        <label class="form-label" for="feed-key">Key</label>
        <BFormInput
          id="feed-key"
          v-model="draft.key"
          required
          maxlength="64"
          pattern="[a-z0-9][a-z0-9\-]*"
          placeholder="harbour-list"
        />
      </div>
      <div>
        <label class="form-label" for="feed-name">Name</label>
        <BFormInput id="feed-name" v-model="draft.name" maxlength="120" placeholder="Harbour List" />
      </div>
      <div>
        <label class="form-label" for="feed-kind">Brings</label>
        <BFormSelect id="feed-kind" v-model="draft.kind" :disabled="!!feed" :options="feedKindValues" />
      </div>
      <div>
        <label class="form-label" for="feed-format">Written as</label>
        <BFormSelect id="feed-format" v-model="draft.format" :options="FORMATS[draft.kind]" />
      </div>
      <div class="wide">
        <label class="form-label" for="feed-address">{{
          draft.format === 'taxii' ? 'Address of the collection' : 'Address (none for files that are sent)'
        }}</label>
        <BFormInput
          id="feed-address"
          v-model="draft.address"
          class="mono"
          maxlength="2000"
          placeholder="https://feeds.example/hosts.csv"
        />
      </div>
      <div>
        <label class="form-label" for="feed-every">Read</label>
        <BFormSelect id="feed-every" v-model="draft.every" :options="everyOptions" />
      </div>
      <div class="checks">
        <BFormCheckbox v-model="draft.review">each generation waits to be looked at</BFormCheckbox>
        <BFormCheckbox v-model="draft.private">may be on a private address</BFormCheckbox>
      </div>
      <div>
        <label class="form-label" for="feed-source">Published by</label>
        <BFormInput id="feed-source" v-model="draft.source" maxlength="255" />
      </div>
      <div>
        <label class="form-label" for="feed-licence">Licence</label>
        <BFormInput id="feed-licence" v-model="draft.licence" maxlength="255" />
      </div>
      <template v-if="draft.kind === 'categories'">
        <div class="wide">
          <CategoryPicker v-model="draft.categories" legend="Categories of every host in it" />
        </div>
        <div v-if="draft.format === 'csv'" class="wide">
          <label class="form-label" for="feed-mapping">Its words and our categories, a line each</label>
          <BFormTextarea
            id="feed-mapping"
            v-model="draft.mapping"
            rows="3"
            placeholder="betting = gambling"
          />
        </div>
      </template>
      <template v-else-if="draft.kind === 'indicators'">
        <div>
          <label class="form-label" for="feed-action">Where it does not say</label>
          <BFormSelect id="feed-action" v-model="draft.action" :options="overrideValues" />
        </div>
        <div>
          <label class="form-label" for="feed-lifetime">Ends after, in days</label>
          <BFormInput
            id="feed-lifetime"
            v-model="draft.lifetime"
            type="number"
            min="1"
            max="3650"
            placeholder="as it says"
          />
        </div>
      </template>
      <div>
        <label class="form-label" for="feed-user">User (empty for a token)</label>
        <BFormInput id="feed-user" v-model="draft.user" maxlength="255" autocomplete="off" />
      </div>
      <div>
        <label class="form-label" for="feed-secret">Password or token</label>
        <BFormInput
          id="feed-secret"
          v-model="draft.secret"
          type="password"
          maxlength="1000"
          autocomplete="new-password"
          :placeholder="feed?.credential ? 'as it is' : 'none'"
        />
      </div>
    </div>
    <BButton v-if="feed" variant="link" class="mt-2 px-0" @click="drop">Remove this feed</BButton>
  </FormDialog>
</template>

<style scoped>
.pairs {
  display: grid;
  grid-template-columns: 1fr 1fr;
  gap: 0.8rem 1rem;
}
.wide {
  grid-column: 1 / -1;
}
.checks {
  align-self: end;
}
</style>
