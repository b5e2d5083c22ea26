<script setup lang="ts">
import { computed, reactive, ref, watch } from 'vue'

import { useSession } from '@/access/useSession'
import { counted, listed } from '@/lib/words'
import { type RestrictionDone, usePutOn, useRestrictions } from './useRestrictions'

/** Restrict some machines for a while: programs, sites, or the whole web. */
const props = defineProps<{
  /** Groups and hostnames to begin with. */
  on?: readonly string[]
}>()
const shown = defineModel<boolean>({ required: true })
const emit = defineEmits<{ done: [made: RestrictionDone] }>()
const { data: known } = useRestrictions()
const { data: session } = useSession()
const put = usePutOn()
const MINUTES = [15, 30, 45, 60, 90, 120]
const ENDS = [
  ...MINUTES.map((minutes) => ({ value: String(minutes), text: `in ${counted(minutes, 'minute')}` })),
  { value: 'restart', text: 'as the machine restarts' },
  { value: 'moment', text: 'at a time' },
]
const EMPTY = {
  key: '',
  on: '',
  what: '',
  no_web: false,
  people: '',
  signed_in: false,
  ends: '45',
  reason: '',
}
const draft = reactive({ ...EMPTY })
const until = ref<string | null | undefined>(null)
/** Whether what is kept under the key is put on again as it is. */
const again = computed(
  () => !draft.no_web && !listed(draft.what).length && !!known.value?.kept.includes(draft.key.trim()),
)
const says = computed(() => draft.no_web || !!listed(draft.what).length || again.value)
const ends = computed(() => draft.ends !== 'moment' || !!until.value)

watch(shown, () => {
  Object.assign(draft, EMPTY, { on: (props.on ?? []).join('\n') })
  until.value = null
  put.reset()
})
function moment() {
  if (draft.ends === 'restart') return null
  if (draft.ends === 'moment') return until.value
  return new Date(Date.now() + Number(draft.ends) * 60_000).toISOString()
}
function save() {
  put.mutate(
    {
      body: {
        key: draft.key.trim(),
        what: listed(draft.what),
        no_web: draft.no_web,
        on: listed(draft.on),
        people: draft.signed_in ? [] : listed(draft.people),
        signed_in: draft.signed_in,
        until: moment() ?? null,
        until_restart: draft.ends === 'restart',
      },
      reason: draft.reason.trim() || undefined,
    },
    {
      onMade: (made) => {
        shown.value = false
        emit('done', made)
      },
    },
  )
}
</script>

<template>
  <FormDialog
    v-model="shown"
    lazy
    title="Restrict machines"
    does="Put it on"
    :error="put.error.value"
    :disabled="!says || !ends || !listed(draft.on).length || put.isPending.value"
    @submit="save"
  >
    <label class="form-label" for="restriction-on">Machines and groups, one a line</label>
    <BFormTextarea id="restriction-on" v-model="draft.on" rows="3" required class="mono" />
    <label class="form-label mt-3" for="restriction-key">Name, under which it is kept</label>
    <BFormInput
      id="restriction-key"
      v-model="draft.key"
      list="restrictions-kept"
      required
      maxlength="40"
      pattern="[a-z0-9][a-z0-9\-]*"
      placeholder="lesson"
    />
    <datalist id="restrictions-kept"><option v-for="key in known?.kept" :key="key" :value="key" /></datalist>
    <p v-if="again" class="small dim mb-0">It is put on again with what it blocked before.</p>
    <BFormCheckbox v-model="draft.no_web" class="mt-3">No web at all</BFormCheckbox>
    <label class="form-label mt-2" for="restriction-what">What is blocked</label>
    <BFormTextarea
      id="restriction-what"
      v-model="draft.what"
      rows="3"
      class="mono"
      placeholder="chess.example, Games, program:chess-club"
      aria-describedby="restriction-what-hint"
    />
    <p id="restriction-what-hint" class="small dim">
      Sites, categories, services and programs; joined by commas, or one a line.
    </p>
    <label class="form-label" for="restriction-ends">It ends</label>
    <BFormSelect id="restriction-ends" v-model="draft.ends" :options="ENDS" />
    <MomentInput v-if="draft.ends === 'moment'" v-model="until" label="Until" ends class="mt-2" />
    <label class="form-label mt-3" for="restriction-people">Only for</label>
    <BFormInput
      id="restriction-people"
      v-model="draft.people"
      :disabled="draft.signed_in"
      placeholder="everybody, or people and user groups joined by commas"
    />
    <BFormCheckbox v-if="session?.sees_names" v-model="draft.signed_in" class="mt-1"
      >Who is signed in there now</BFormCheckbox
    >
    <label class="form-label mt-3" for="restriction-reason">Reason</label>
    <BFormInput id="restriction-reason" v-model="draft.reason" maxlength="2000" placeholder="Chart lesson" />
  </FormDialog>
</template>
