<script setup lang="ts">
import { computed } from 'vue'

import { useSession } from '@/access/useSession'
import { useEditor } from '@/editing/useEditor'
import {
  type ApplicationCondition,
  type ApplicationSet,
  type ApplicationSetBody,
  sets,
  useSetSentence,
} from './useApplicationSets'

/** Edit an application set: which programs it takes in, and which of them not after all. */
const props = defineProps<{ set?: ApplicationSet }>()
const emit = defineEmits<{ saved: [key: string] }>()
const { mayAuthor } = useSession()
const editor = useEditor({
  noun: 'application set',
  saved: () => props.set,
  draftOf: (saved) => ({
    key: saved?.key ?? '',
    name: saved && saved.name !== saved.key ? saved.name : '',
    following: saved?.following ?? true,
    include: (saved?.include ?? [{ product: '' }]) as ApplicationCondition[],
    exclude: (saved?.exclude ?? []) as ApplicationCondition[],
    frozen_members: (saved?.frozen_members ?? null) as ApplicationSetBody['frozen_members'],
  }),
  bodyOf: (draft): ApplicationSetBody => ({
    ...draft,
    key: draft.key.trim(),
    name: draft.name.trim() || null,
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
const given = (one: ApplicationCondition) =>
  Object.entries(one).some(
    ([name, value]) => name !== 'version' && value !== '' && value !== null && value !== undefined,
  )
const complete = computed(() =>
  [...body.value.include, ...body.value.exclude].every(given)
    ? { ...body.value, key: body.value.key || 'new' }
    : null,
)
const { data: sentence } = useSetSentence(complete)
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

    <section v-for="part in PARTS" :key="part.key" class="panel" :aria-label="part.title">
      <h2>{{ part.title }}</h2>
      <ProgramCondition
        v-for="(condition, place) in draft[part.key]"
        :key="place"
        :model-value="condition"
        :label="`${part.add} ${place + 1}`"
        :disabled="!mayAuthor"
        @update:model-value="draft[part.key][place] = $event"
        @remove="draft[part.key].splice(place, 1)"
      />
      <p v-if="!draft[part.key].length" class="sub mb-1">None.</p>
      <BButton v-needs:author variant="link" @click="draft[part.key].push({ product: '' })"
        ><Icon name="plus" /> {{ part.add }}</BButton
      >
    </section>

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
</template>
