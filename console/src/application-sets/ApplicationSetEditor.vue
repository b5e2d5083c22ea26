<script setup lang="ts">
import { refDebounced } from '@vueuse/core'
import { computed, reactive, ref } from 'vue'

import { useSession } from '@/access/useSession'
import { useCatalogue } from '@/catalogue/useCatalogue'
import { useEditor } from '@/editing/useEditor'
import {
  type ApplicationCondition,
  type ApplicationSet,
  type ApplicationSetBody,
  OFFERED,
  sets,
  useApplicationSets,
  useCatch,
  useSetSentence,
} from './useApplicationSets'

/** Edit an application set: which programs it takes in, and which of them not after all. */
const props = defineProps<{ set?: ApplicationSet }>()
const emit = defineEmits<{ saved: [key: string] }>()
const { mayAuthor } = useSession()
/** What was ticked in the catalogue for a new set. */
const ticked = () => {
  const given: unknown = history.state?.include
  return typeof given === 'string' ? (JSON.parse(given) as ApplicationCondition[]) : [{ product: '' }]
}
const editor = useEditor({
  noun: 'application set',
  saved: () => props.set,
  draftOf: (saved) => ({
    key: saved?.key ?? '',
    name: saved && saved.name !== saved.key ? saved.name : '',
    following: saved?.following ?? true,
    include: (saved?.include ?? ticked()) as ApplicationCondition[],
    sets: saved?.sets ?? [],
    watches: saved?.watches ?? [],
    exclude: (saved?.exclude ?? []) as ApplicationCondition[],
    frozen_members: (saved?.frozen_members ?? null) as ApplicationSetBody['frozen_members'],
  }),
  bodyOf: (draft): ApplicationSetBody => ({
    ...draft,
    key: draft.key.trim(),
    name: draft.name.trim() || null,
    watches: draft.following ? draft.watches : [],
    frozen_members: draft.following ? null : draft.frozen_members,
  }),
  calls: sets,
  done: (key) => emit('saved', key),
})
const { draft, body, changed } = editor
const PARTS = [
  { key: 'include', title: 'Takes in programs with', add: 'Condition' },
  { key: 'exclude', title: 'but not those with', add: 'Exclusion' },
] as const
/** So many of each are drawn at first: files of a folder may be hundreds. */
const most = ref(50)
function add(to: (typeof PARTS)[number]['key']) {
  most.value = Math.max(most.value, draft.value[to].length + 1)
  draft.value[to].push({ product: '' })
}
const given = (one: ApplicationCondition) =>
  Object.entries(one).some(
    ([name, value]) => name !== 'version' && value !== '' && value !== null && value !== undefined,
  )
const { data: known } = useApplicationSets()
const others = computed(() =>
  (known.value ?? [])
    .filter(({ key }) => key !== draft.value.key && !draft.value.sets.includes(key))
    .map(({ key, name }) => ({ value: key, text: name })),
)
const other = ref('')
function takeIn() {
  draft.value.sets = [...draft.value.sets, other.value]
  other.value = ''
}
const watched = reactive({ device: '', folder: '' })
function watchFolder() {
  draft.value.watches = [
    ...draft.value.watches,
    { device: watched.device.trim(), folder: watched.folder.trim() },
  ]
  Object.assign(watched, { device: '', folder: '' })
}
function takeStarted(found: ApplicationCondition[]) {
  const plain = (one: ApplicationCondition) =>
    JSON.stringify(Object.entries(one).filter(([, value]) => value !== null && value !== ''))
  const had = new Set(draft.value.include.map(plain))
  draft.value.include = [...draft.value.include.filter(given), ...found.filter((one) => !had.has(plain(one)))]
}
const complete = computed(() =>
  [...body.value.include, ...body.value.exclude].every(given)
    ? { ...body.value, key: body.value.key || 'new' }
    : null,
)
const { data: sentence } = useSetSentence(complete)
/** What somebody writes into a condition; programs of the fleet that have it are offered. */
const typed = ref('')
const asked = refDebounced(typed, 250)
const { items: programs } = useCatalogue(() => ({ q: asked.value.slice(0, 100) || undefined, limit: 50 }))
const offered = computed(() =>
  OFFERED.map((field) => ({
    field,
    values: new Set(
      programs.value.map(({ condition, category }) => ({ ...condition, category })[field]).filter(Boolean),
    ),
  })),
)
const { data: caught } = useCatch(refDebounced(complete, 400))
</script>

<template>
  <div class="editor">
    <EditorForm
      :editor="editor"
      key-example="remote-control"
      name-example="Remote control"
      :blocked="!complete"
      :removable="set && !set.rulesets.length"
    >
      <p class="sentence" role="status">
        <b>{{ changed ? 'Will hold:' : 'Holds:' }}</b> {{ sentence ?? '…' }}
      </p>
    </EditorForm>

    <div class="sides">
      <div class="editor">
        <section v-for="part in PARTS" :key="part.key" class="panel" :aria-label="part.title">
          <h2>{{ part.title }}</h2>
          <ProgramCondition
            v-for="(condition, place) in draft[part.key].slice(0, most)"
            :key="place"
            :model-value="condition"
            :label="`${part.add} ${place + 1}`"
            :disabled="!mayAuthor"
            @typing="typed = $event"
            @update:model-value="draft[part.key][place] = $event"
            @remove="draft[part.key].splice(place, 1)"
          />
          <p v-if="!draft[part.key].length" class="sub mb-1">None.</p>
          <BButton v-if="draft[part.key].length > most" variant="link" @click="most = Infinity"
            >Show the other {{ (draft[part.key].length - most).toLocaleString('en') }}</BButton
          >
          <BButton v-needs:author variant="link" @click="add(part.key)"
            ><Icon name="plus" /> {{ part.add }}</BButton
          >
        </section>

        <section class="panel" aria-label="Other sets">
          <h2>and what other sets hold</h2>
          <p v-for="key in draft.sets" :key="key" class="mb-1">
            {{ known?.find((one) => one.key === key)?.name ?? key }}
            <BButton
              v-needs:author
              variant="link"
              :aria-label="`Leave out ${key}`"
              @click="draft.sets = draft.sets.filter((one) => one !== key)"
              >Leave out</BButton
            >
          </p>
          <form v-if="others.length" v-needs:author class="taking" @submit.prevent="takeIn">
            <BFormSelect
              v-model="other"
              aria-label="Another set"
              class="short"
              :options="[{ value: '', text: 'Take in another set' }, ...others]"
            />
            <BButton type="submit" variant="light" :disabled="!other"
              ><Icon name="plus" /> Take it in</BButton
            >
          </form>
          <p v-else-if="!draft.sets.length" class="sub mb-0">There is no other set.</p>
        </section>

        <datalist v-for="one in offered" :id="`of-the-fleet-${one.field}`" :key="one.field">
          <option v-for="value in one.values" :key="value!" :value="value!" />
        </datalist>

        <section v-if="draft.following" class="panel" aria-label="Watched folders">
          <h2>and what is put into folders of machines</h2>
          <p v-for="(one, place) in draft.watches" :key="place" class="mb-1">
            <span class="mono">{{ one.folder }}</span> on {{ one.device }}
            <BButton
              v-needs:author
              variant="link"
              :aria-label="`Watch ${one.folder} no more`"
              @click="draft.watches = draft.watches.filter((_, number) => number !== place)"
              >Watch it no more</BButton
            >
          </p>
          <form v-needs:author class="taking" @submit.prevent="watchFolder">
            <BFormInput v-model="watched.device" aria-label="Machine to watch" placeholder="drop-01" />
            <BFormInput
              v-model="watched.folder"
              class="mono"
              aria-label="Folder to watch"
              placeholder="/srv/unwanted"
            />
            <BButton type="submit" variant="light" :disabled="!watched.device || !watched.folder"
              ><Icon name="plus" /> Watch it</BButton
            >
          </form>
        </section>

        <StartedPanel v-if="mayAuthor" @found="takeStarted" />

        <section class="panel" aria-label="Later programs">
          <BFormCheckbox v-model="draft.following" :disabled="!mayAuthor"
            >Following: takes in what is found on machines later</BFormCheckbox
          >
          <p v-if="!draft.following" class="sub mb-0">
            Frozen: it holds
            {{
              draft.frozen_members
                ? `${draft.frozen_members.length} programs`
                : 'what machines have when it is saved'
            }}, each by its SHA-256 or by what else is known of it.
          </p>
          <p v-if="set?.rulesets.length" class="mt-2 mb-0">Named by {{ set.rulesets.join(', ') }}.</p>
        </section>
      </div>
      <CatchPanel
        class="beside"
        :found="caught"
        :is-edit="changed"
        @leave-out="draft.exclude.push(...$event)"
      />
    </div>
  </div>
</template>

<style scoped>
.sides {
  display: grid;
  grid-template-columns: minmax(0, 3fr) minmax(17rem, 2fr);
  gap: 1.1rem;
  align-items: start;
}
.beside {
  position: sticky;
  top: 4.5rem;
  max-height: calc(100vh - 5.5rem);
  overflow-y: auto;
}
.taking {
  display: flex;
  gap: 0.6rem;
}
.taking > .btn {
  white-space: nowrap;
}
.short {
  width: auto;
}
</style>
