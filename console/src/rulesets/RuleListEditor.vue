<script setup lang="ts">
import { refDebounced } from '@vueuse/core'
import { computed, reactive, ref, watch } from 'vue'

import { decisionValues } from '@/api/schema'
import { useSession } from '@/access/useSession'
import type { AuthoringWarning, Rule, RulesetBody, RulesetState } from '@/api/client'
import { useApplicationSets } from '@/application-sets/useApplicationSets'
import { useEditor } from '@/editing/useEditor'
import { useServices } from '@/services/useServices'
import { useWarnings } from '@/worklist/useWarnings'
import type { Reading } from '@/worklist/WarningList.vue'
import { KINDS, selectorFrom, type SelectorName, selectorOf, selectorText } from './kinds'
import { rulesets, useRulesetSentence } from './useRulesets'

/** Edit a ruleset as a list of rules: add, change, search, act on many. Without one, make a new one. */
const props = defineProps<{ shape: (typeof KINDS)[string]; ruleset?: RulesetState }>()
const emit = defineEmits<{ saved: [key: string] }>()
const { mayAuthor } = useSession()
const editor = useEditor({
  noun: 'ruleset',
  kept: `${props.shape.kind} ruleset`,
  saved: () => props.ruleset,
  draftOf: (saved) => ({
    key: saved?.key ?? '',
    name: saved && saved.name !== saved.key ? saved.name : '',
    ground: saved?.ground ?? '',
    feed: saved?.feed ?? null,
    rules: (saved?.rules ?? []) as Rule[],
    includes: saved?.includes ?? [],
  }),
  bodyOf: (draft): RulesetBody => ({
    key: draft.key.trim(),
    name: draft.name.trim() || null,
    ground: draft.ground.trim() || null,
    kind: props.shape.kind,
    feed: draft.feed,
    rules: draft.rules,
    includes: draft.includes,
  }),
  calls: rulesets,
  done: (key) => emit('saved', key),
})
const { draft, body, changed } = editor
const { data: sentence } = useRulesetSentence(body)
// --- what should be known of what is being written ---

const MOST_SENT = 2_000
const written = refDebounced(
  computed(() =>
    mayAuthor.value &&
    draft.value.rules.length + draft.value.includes.length &&
    draft.value.rules.length <= MOST_SENT
      ? { ruleset: { ...body.value, key: body.value.key || 'being-written', name: null } }
      : null,
  ),
  500,
)
const { data: found } = useWarnings(written)
/** Those of the rules that are new here, and those of the whole. */
const warnings = computed(() => {
  const before = new Set((props.ruleset?.rules ?? []).map((rule) => JSON.stringify(rule)))
  const isNew = (number: number) => !before.has(JSON.stringify(draft.value.rules[number - 1]))
  return (found.value ?? []).filter(({ rule }) => rule == null || isNew(rule))
})
/** Put the stronger or likelier form in place of what a warning is about. */
function takeInstead({ rule, instead, code }: AuthoringWarning) {
  const old = draft.value.rules[rule! - 1]
  const { action, name, note, valid_until, reading } = old
  const kept = { action, name, note, valid_until, ...(old.pattern ? { reading } : {}) }
  const selector = old.pattern && code !== 'path-hidden' ? { pattern: instead } : { host: instead }
  draft.value.rules = draft.value.rules.map((rule) =>
    rule === old ? ({ ...kept, ...selector } as Rule) : rule,
  )
}

/** Whether the author has not said yet what a browser is to get that cannot say a block. */
function asksReading({ code, rule }: AuthoringWarning) {
  const about = rule == null ? undefined : draft.value.rules[rule - 1]
  return code === 'pattern-changed' && about?.action === 'block' && !about.reading
}
function takeReading({ rule }: AuthoringWarning, reading: Reading) {
  const old = draft.value.rules[rule! - 1]
  draft.value.rules = draft.value.rules.map((one) => (one === old ? { ...one, reading } : one))
}

// --- what is shown ---

const SHOWN = 200
const sought = ref('')
const chosen = ref<string[]>([])
const textOf = (rule: Rule) => `${selectorOf(rule).name} ${selectorText(rule)}`
const matching = computed(() => {
  const text = sought.value.trim().toLowerCase()
  return draft.value.rules.filter(
    (rule) =>
      !text ||
      `${textOf(rule)} ${rule.action} ${rule.name ?? ''} ${rule.note ?? ''}`.toLowerCase().includes(text),
  )
})
const shown = computed(() => matching.value.slice(0, SHOWN))
const allChosen = computed(() => matching.value.length > 0 && chosen.value.length >= matching.value.length)
function chooseAll() {
  chosen.value = allChosen.value ? [] : matching.value.map(textOf)
}

// what is not shown any more is not acted on
watch(sought, () => {
  const names = new Set(matching.value.map(textOf))
  chosen.value = chosen.value.filter((name) => names.has(name))
})

// --- acting on many ---

const many = reactive({ action: '', until: null as string | null | undefined })
function act(change: (rule: Rule) => Rule | null) {
  const names = new Set(chosen.value)
  draft.value.rules = draft.value.rules.flatMap((rule) => {
    if (!names.has(textOf(rule))) return [rule]
    const after = change(rule)
    return after ? [after] : []
  })
}
function applyMany() {
  const { action, until } = many
  act((rule) => ({
    ...rule,
    ...(action ? { action: action as Rule['action'] } : {}),
    ...(until ? { valid_until: until } : {}),
  }))
  Object.assign(many, { action: '', until: null })
  chosen.value = []
}
function removeMany() {
  act(() => null)
  chosen.value = []
}

// --- one rule ---

const services = useServices()
const sets = useApplicationSets()
const fresh = () => ({
  selector: props.shape.selectors[0].name as SelectorName,
  value: '',
  exact: false,
  reading: '' as Reading | '',
  action: 'block' as Rule['action'],
  name: '',
  until: null as string | null | undefined,
  editing: '',
})
const one = reactive(fresh())
const example = computed(() => props.shape.selectors.find(({ name }) => name === one.selector)?.example ?? '')
const choices = computed(() => {
  if (one.selector === 'service')
    return (services.data.value ?? []).map(({ key, name }) => ({ value: key, text: name }))
  if (one.selector === 'application_set')
    return (sets.data.value ?? []).map(({ key, name }) => ({ value: key, text: name }))
  if (one.selector === 'decision') return decisionValues.map((word) => ({ value: word, text: word }))
  return undefined
})
const READINGS = [
  { value: '', text: 'as usual where a browser cannot say it' },
  { value: 'stricter', text: 'read more strictly there' },
  { value: 'left-out', text: 'left out there' },
]
const mayBeExact = computed(() => one.selector === 'host' || one.selector === 'url')
function edit(rule: Rule) {
  const { name, value } = selectorOf(rule)
  Object.assign(one, {
    selector: name,
    value,
    exact: Boolean(rule.exact),
    reading: rule.reading ?? '',
    action: rule.action,
    name: rule.name ?? '',
    until: rule.valid_until ?? null,
    editing: textOf(rule),
  })
}
function add() {
  const before = draft.value.rules.find((rule) => textOf(rule) === one.editing)
  const rule = {
    ...selectorFrom(one.selector, one.value),
    ...(mayBeExact.value && one.exact ? { exact: true } : {}),
    ...(one.selector === 'pattern' && one.reading ? { reading: one.reading } : {}),
    action: one.action,
    name: one.name.trim() || null,
    note: before?.note ?? null,
    valid_until: one.until ?? null,
  } as Rule
  if (before) draft.value.rules = draft.value.rules.map((other) => (other === before ? rule : other))
  else draft.value.rules = [...draft.value.rules.filter((other) => textOf(other) !== textOf(rule)), rule]
  Object.assign(one, fresh(), { selector: one.selector, action: one.action })
}
const pasting = ref(false)
function takePasted(pasted: Rule[]) {
  const named = new Set(pasted.map(textOf))
  draft.value.rules = [...draft.value.rules.filter((rule) => !named.has(textOf(rule))), ...pasted]
}
const hasEnded = (rule: Rule) => Boolean(rule.valid_until && new Date(rule.valid_until) <= new Date())
</script>

<template>
  <div class="editor">
    <EditorForm
      :editor="editor"
      :removable="ruleset && !ruleset.assignments.length && !ruleset.feed"
      :key-example="shape.keyExample"
      :name-example="shape.nameExample"
    >
      <template #beside-name><GroundInput v-model="draft.ground" :disabled="!mayAuthor" /></template>
      <p class="sentence" role="status">
        <b>{{ changed ? 'Will be:' : 'Does:' }}</b> {{ sentence ?? '…' }}
        <span v-if="draft.feed" class="dim">Brought in by the feed {{ draft.feed }}.</span>
      </p>
      <WarningList :warnings="warnings" :asks="asksReading" @take="takeInstead" @read="takeReading" />
    </EditorForm>

    <AssignmentList v-if="ruleset" :ruleset="ruleset.key" :kind="shape.kind" />
    <IncludedLists
      v-if="shape.kind !== 'startup' && !draft.feed"
      v-model="draft.includes"
      :actions="shape.actions"
      :included="ruleset?.included"
    />
    <template v-if="shape.kind === 'site'">
      <SiteTryBox :ruleset="body" />
      <PageHosts :ruleset="body" @rules="takePasted" />
    </template>

    <section class="panel flush" aria-label="Rules">
      <ListStart
        v-if="shape.kind === 'site'"
        :ruleset="body"
        :disabled="!mayAuthor"
        @begun="Object.assign(draft, { rules: $event.rules ?? [], includes: $event.includes ?? [] })"
      />
      <form v-needs:author class="adding" @submit.prevent="add">
        <BFormSelect
          v-if="shape.selectors.length > 1"
          v-model="one.selector"
          aria-label="What it names"
          :options="shape.selectors.map(({ name, label }) => ({ value: name, text: label }))"
        />
        <BFormSelect
          v-if="choices"
          v-model="one.value"
          class="what"
          aria-label="Which"
          :options="[{ value: '', text: 'Choose one' }, ...choices]"
          required
        />
        <BFormInput
          v-else-if="one.selector !== 'everything'"
          v-model="one.value"
          class="what mono"
          required
          aria-label="Which"
          :placeholder="example"
          maxlength="8192"
        />
        <BFormCheckbox v-if="mayBeExact" v-model="one.exact" class="exact">exact: only itself</BFormCheckbox>
        <BFormSelect
          v-model="one.action"
          aria-label="Action"
          class="short"
          :options="shape.actions.map((word) => ({ value: word, text: word }))"
        />
        <BFormSelect
          v-if="one.selector === 'pattern'"
          v-model="one.reading"
          aria-label="Where a browser cannot say it"
          class="short"
          :options="READINGS"
        />
        <BFormInput v-model="one.name" aria-label="Name" placeholder="Name" maxlength="120" class="named" />
        <MomentInput v-model="one.until" label="Until" ends class="until" />
        <BButton type="submit" variant="light" :disabled="one.until === undefined"
          ><Icon :name="one.editing ? 'check' : 'plus'" />
          {{ one.editing ? 'Change rule' : 'Add rule' }}</BButton
        >
      </form>
      <div class="tools">
        <BFormInput v-model="sought" type="search" placeholder="Find a rule" aria-label="Find a rule" />
        <span class="dim small" role="status"
          >{{ matching.length.toLocaleString() }} of {{ draft.rules.length.toLocaleString() }} rules<template
            v-if="matching.length > shown.length"
            >, the first {{ SHOWN }} shown</template
          ></span
        >
        <BButton v-if="shape.kind === 'site'" v-needs:author variant="light" @click="pasting = true"
          ><Icon name="plus" /> Paste patterns</BButton
        >
        <form v-if="chosen.length" v-needs:author class="many" @submit.prevent="applyMany">
          <b>{{ chosen.length.toLocaleString() }} chosen</b>
          <BFormSelect
            v-model="many.action"
            class="short"
            aria-label="Action for the chosen"
            :options="[
              { value: '', text: 'keep action' },
              ...shape.actions.map((word) => ({ value: word, text: word })),
            ]"
          />
          <MomentInput v-model="many.until" label="End for the chosen" ends class="until" />
          <BButton type="submit" variant="light" :disabled="!many.action && !many.until">Apply</BButton>
          <BButton variant="light" @click="removeMany">Take out</BButton>
        </form>
      </div>
      <p v-if="!draft.rules.length" class="sub px-3 py-3 mb-0">No rule yet, so it does nothing.</p>
      <BTableSimple v-else caption-top>
        <caption class="visually-hidden">
          Rules of this ruleset
        </caption>
        <BThead>
          <BTr>
            <BTh v-if="mayAuthor" class="box"
              ><input
                type="checkbox"
                class="form-check-input"
                aria-label="Choose all"
                :checked="allChosen"
                @change="chooseAll"
            /></BTh>
            <BTh>What</BTh><BTh>Action</BTh><BTh>Name</BTh><BTh>Until</BTh
            ><BTh><span class="visually-hidden">Next step</span></BTh>
          </BTr>
        </BThead>
        <BTbody>
          <BTr v-for="rule in shown" :key="textOf(rule)" :class="{ ended: hasEnded(rule) }">
            <BTd v-if="mayAuthor" class="box"
              ><input
                v-model="chosen"
                type="checkbox"
                class="form-check-input"
                :value="textOf(rule)"
                :aria-label="`Choose ${textOf(rule)}`"
            /></BTd>
            <BTd class="selector"
              ><span class="small dim">{{ selectorOf(rule).name.replace('_', ' ') }}</span>
              <code v-if="selectorText(rule) !== 'everything'">{{ selectorText(rule) }}</code></BTd
            >
            <BTd><ActionMark :action="rule.action" /></BTd>
            <BTd
              >{{ rule.name }}
              <div v-if="rule.note" class="small dim">{{ rule.note }}</div>
              <div v-if="rule.reading" class="small dim">
                {{ READINGS.find(({ value }) => value === rule.reading)?.text }}
              </div></BTd
            >
            <BTd class="text-nowrap"
              ><MomentText :at="rule.valid_until" />
              <span v-if="hasEnded(rule)" class="small dim">ended</span></BTd
            >
            <BTd class="text-end text-nowrap">
              <BButton v-needs:author variant="link" :aria-label="`Edit ${textOf(rule)}`" @click="edit(rule)"
                >Edit</BButton
              >
            </BTd>
          </BTr>
        </BTbody>
      </BTableSimple>
    </section>
    <PasteDialog v-model="pasting" :actions="shape.actions" @rules="takePasted" />
  </div>
</template>

<style scoped>
.adding,
.tools,
.many {
  display: flex;
  align-items: center;
  flex-wrap: wrap;
  gap: 0.5rem;
}
.adding,
.tools {
  padding: 0.6rem 1.1rem;
  border-bottom: 1px solid var(--line);
}
.adding > select,
.short {
  width: auto;
}
.what {
  flex: 2 1 12rem;
}
.named {
  flex: 1 1 7rem;
}
.exact {
  margin: 0;
}
.until {
  flex: 0 1 17rem;
}
.tools > input {
  max-width: 220px;
}
.many {
  margin-left: auto;
}
.box {
  width: 2rem;
}
.selector .dim {
  margin-right: 0.5rem;
}
.selector code {
  overflow-wrap: anywhere;
}
.ended {
  color: var(--ink-2);
}
</style>
