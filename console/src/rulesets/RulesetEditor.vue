<script setup lang="ts">
import { refDebounced } from '@vueuse/core'
import { computed, ref, watch } from 'vue'

import { useSession } from '@/access/useSession'
import type { Action, RulesetBody, RulesetState } from '@/api/client'
import { useTaxonomy } from '@/categories/useTaxonomy'
import { useEditor } from '@/editing/useEditor'
import { counted } from '@/lib/words'
import { useSettings } from '@/settings/useSettings'
import { useWarnings } from '@/worklist/useWarnings'
import { actionsOf, rulesOf, type Subject } from './categoryRules'
import { rulesets, useRulesetSentence } from './useRulesets'

/** Edit a ruleset of web categories on the two-level taxonomy. Without one, make a new one. */
const props = defineProps<{ ruleset?: RulesetState }>()
const emit = defineEmits<{ saved: [key: string] }>()
const editor = useEditor({
  noun: 'ruleset',
  kept: 'category ruleset',
  saved: () => props.ruleset,
  draftOf: (saved) => ({
    key: saved?.key ?? '',
    name: saved && saved.name !== saved.key ? saved.name : '',
    ground: saved?.ground ?? '',
    actions: actionsOf(saved?.rules),
  }),
  bodyOf: (draft, base): RulesetBody => ({
    key: draft.key.trim(),
    name: draft.name.trim() || null,
    ground: draft.ground.trim() || null,
    kind: 'category',
    rules: rulesOf(draft.actions, base?.rules),
    includes: [],
  }),
  calls: rulesets,
  done: (key) => emit('saved', key),
})
const { draft, body, changed } = editor
const get = (subject: Subject) => draft.value.actions[subject] ?? null
function set(subject: Subject, action: Action | null) {
  if (action) draft.value.actions[subject] = action
  else delete draft.value.actions[subject]
}
const { data: taxonomy, isPending, error, refetch } = useTaxonomy()
const { data: sentence } = useRulesetSentence(body)
const { data: settings } = useSettings()
const { mayAuthor } = useSession()
const written = refDebounced(
  computed(() =>
    mayAuthor.value && changed.value && body.value.rules.length
      ? { ruleset: { ...body.value, key: body.value.key || 'being-written', name: null } }
      : null,
  ),
  500,
)
const { data: warnings } = useWarnings(written)

const sought = ref('')
const opened = ref(new Set<string>())

const families = computed(() => {
  const text = sought.value.trim().toLowerCase()
  return (taxonomy.value?.families ?? [])
    .map((family) => {
      const own = `${family.key} ${family.name}`.toLowerCase().includes(text)
      const categories = family.categories.filter(
        (one) => !text || own || `${one.key} ${one.name} ${one.definition}`.toLowerCase().includes(text),
      )
      const hidden = family.categories.length - categories.length
      return { ...family, categories, hidden, hit: text !== '' && categories.length > 0 }
    })
    .filter(({ categories }) => categories.length)
})
const namedIn = (keys: string[]) => keys.filter((key) => get(`category:${key}`)).length
const isOpen = (key: string, hit: boolean) => hit || opened.value.has(key)
function toggle(key: string) {
  if (!opened.value.delete(key)) opened.value.add(key)
}
watch(
  taxonomy,
  (known) => {
    for (const { key, categories } of known?.families ?? [])
      if (namedIn(categories.map((category) => category.key))) opened.value.add(key)
  },
  { immediate: true },
)

const content = ref('')
const contentSubjects = computed(() =>
  Object.keys(draft.value.actions).filter((subject) => /^(search_term|media_type):/.test(subject)),
)
function addContent() {
  const text = content.value.trim()
  set(`${/^[a-z]+\/\S+$/i.test(text) ? 'media_type' : 'search_term'}:${text.toLowerCase()}`, 'block')
  content.value = ''
}
</script>

<template>
  <div class="editor">
    <EditorForm
      :editor="editor"
      :removable="ruleset && !ruleset.assignments.length"
      key-example="no-gambling"
      name-example="No gambling"
    >
      <template #beside-name><GroundInput v-model="draft.ground" :disabled="!mayAuthor" /></template>
      <p class="sentence" role="status">
        <b>{{ changed ? 'Will be:' : 'Does:' }}</b> {{ sentence ?? '…' }}
      </p>
      <WarningList :warnings="warnings ?? []" />
    </EditorForm>

    <AssignmentList v-if="ruleset" :ruleset="ruleset.key" kind="category" />

    <section class="panel flush" aria-label="Categories">
      <div class="tools">
        <BFormInput
          v-model="sought"
          type="search"
          placeholder="Find a category"
          aria-label="Find a category"
        />
        <span class="dim">everything else</span>
        <ActionPicker
          name="everything"
          label="Everything that no other rule names"
          :disabled="!mayAuthor"
          :model-value="get('everything')"
          @update:model-value="set('everything', $event)"
        />
      </div>
      <StateBox :loading="isPending" :error="error" :empty="families.length === 0" @retry="refetch()">
        <template #empty
          ><p class="sub mb-0">No category matches “{{ sought }}”.</p></template
        >
        <div v-for="family in families" :key="family.key" class="family">
          <div class="row-line head">
            <button
              type="button"
              class="open"
              :aria-expanded="isOpen(family.key, family.hit)"
              @click="toggle(family.key)"
            >
              <Icon :name="isOpen(family.key, family.hit) ? 'chevronDown' : 'chevronRight'" class="dim" />
              {{ family.name }}
            </button>
            <span class="small dim">
              {{ counted(family.categories.length, 'category', 'categories')
              }}{{ family.hidden ? ` of ${family.categories.length + family.hidden}` : ''
              }}<template v-if="namedIn(family.categories.map((category) => category.key))"
                >, {{ namedIn(family.categories.map((category) => category.key)) }} with a rule of their
                own</template
              >
            </span>
            <span v-if="family.hidden" class="small dim">for all of it, clear the search</span>
            <ActionPicker
              v-else
              :name="`family-${family.key}`"
              :label="`The whole family ${family.name}`"
              :disabled="!mayAuthor"
              :model-value="get(`family:${family.key}`)"
              @update:model-value="set(`family:${family.key}`, $event)"
            />
          </div>
          <template v-if="isOpen(family.key, family.hit)">
            <div v-for="category in family.categories" :key="category.key" class="row-line category">
              <span class="name">{{ category.name }}</span>
              <span class="small dim definition" :title="`Test host: ${category.test_host}`">{{
                category.definition +
                (category.key === 'newly-registered' && settings
                  ? ` Here: less than ${settings.newly_registered_days} days ago.`
                  : '')
              }}</span>
              <ActionPicker
                :name="`category-${category.key}`"
                :label="category.name"
                :disabled="!mayAuthor"
                :model-value="get(`category:${category.key}`)"
                @update:model-value="set(`category:${category.key}`, $event)"
              />
            </div>
          </template>
        </div>
      </StateBox>
      <div class="beside">
        <h2>Search terms and media types</h2>
        <div v-for="subject in contentSubjects" :key="subject" class="row-line">
          <span class="name">{{ subject.startsWith('search_term') ? 'Search for' : 'Media type' }}</span>
          <code>{{ subject.split(':').slice(1).join(':') }}</code>
          <ActionPicker
            :name="subject"
            :label="subject.replace(':', ' ')"
            :disabled="!mayAuthor"
            :model-value="get(subject)"
            @update:model-value="set(subject, $event)"
          />
        </div>
        <div v-needs:author class="tools">
          <BFormInput
            v-model="content"
            placeholder="cheat codes, or video/*"
            aria-label="Search term or media type"
          />
          <BButton variant="light" :disabled="!content.trim()" @click="addContent">Block it</BButton>
        </div>
      </div>
    </section>
  </div>
</template>

<style scoped>
.beside h2 {
  padding: 0.9rem 1.1rem 0.2rem;
}
.tools {
  display: flex;
  align-items: center;
  gap: 0.75rem;
  padding: 0.6rem 1.1rem;
  border-bottom: 1px solid var(--line);
}
.tools input {
  max-width: 260px;
  margin-right: auto;
}
.row-line {
  display: grid;
  grid-template-columns: 180px minmax(0, 1fr) auto;
  align-items: center;
  gap: 0.75rem;
  min-height: var(--row);
  padding: 0.15rem 1.1rem;
  border-bottom: 1px solid var(--line-2);
}
.head {
  background: var(--wash);
}
.open {
  background: none;
  border: 0;
  padding: 0;
  text-align: left;
  font-weight: 600;
  color: inherit;
}
.category .name {
  padding-left: 1.4rem;
}
.definition {
  overflow: hidden;
  text-overflow: ellipsis;
  white-space: nowrap;
}
</style>
