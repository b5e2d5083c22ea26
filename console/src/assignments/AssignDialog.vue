<script setup lang="ts">
import { refDebounced } from '@vueuse/core'
import { computed, reactive, ref, watch } from 'vue'

import type { Assignment, Problem, Ruleset } from '@/api/client'
import { useGroups } from '@/groups/useGroups'
import { counted } from '@/lib/words'
import { targetText } from '@/rulesets/kinds'
import { useSchedules } from '@/schedules/useSchedules'
import { useWarnings } from '@/worklist/useWarnings'
import { assignmentBody, type AssignmentBody, useAssign, usePutAssignment } from './useAssignments'

/** Put a ruleset on groups and machines, or change anything about an assignment: where, for whom, when, how strongly. */
const props = defineProps<{
  ruleset: string
  kind: Ruleset['kind']
  assignment?: Assignment
  /** A target to begin with. */
  begin?: string
}>()
const shown = defineModel<boolean>({ required: true })
const { data: groups } = useGroups()
const { data: schedules } = useSchedules()
const assign = useAssign()
const put = usePutAssignment()
const error = computed(() => assign.error.value ?? put.error.value)
const busy = computed(() => assign.isPending.value || put.isPending.value)

const listed = (text: string) =>
  text
    .split(/[\n,]+/)
    .map((one) => one.trim())
    .filter(Boolean)
function draftOf(one: Assignment | undefined) {
  const devices = (one?.to ?? []).flatMap((target) => (typeof target === 'string' ? [] : [target.device]))
  return {
    groups: (one?.to ?? []).filter((target): target is string => typeof target === 'string'),
    devices: devices.join(', '),
    users: one?.people?.users?.join(', ') ?? '',
    user_groups: one?.people?.user_groups?.join(', ') ?? '',
    place: one?.place ?? 'anywhere',
    schedule: one?.schedule ?? '',
    starts: (one?.starts ?? null) as string | null | undefined,
    ends: (one?.ends ?? null) as string | null | undefined,
    until_restart: one?.until_restart ?? false,
    action: one?.action ?? '',
    mandatory: one?.mandatory ?? false,
    replaces_weaker: one?.replaces_weaker ?? false,
    report_presence: one?.report_presence ?? false,
    end_running: one?.end_running ?? false,
    hold_back: one?.hold_back ?? '',
    reason: one?.reason ?? '',
    ticket: one?.ticket ?? '',
    owner: one?.owner ?? '',
  }
}
const draft = reactive(draftOf(undefined))
/** What it was when the dialog opened. */
const known = ref<Assignment>()
/** The draft as it was then: what differs from it is not to be lost by a slip. */
const untouched = ref('')
const touched = computed(() => JSON.stringify(draft) !== untouched.value)
const slipped = ref(false)
watch(draft, () => (slipped.value = false))
watch(shown, () => {
  known.value = shown.value ? props.assignment : undefined
  Object.assign(draft, draftOf(known.value))
  if (shown.value && props.begin && !known.value) {
    if (groups.value?.some(({ key }) => key === props.begin)) draft.groups = [props.begin]
    else draft.devices = props.begin
  }
  untouched.value = JSON.stringify(draft)
  slipped.value = false
  assign.reset()
  put.reset()
})

const OVERRIDES = computed(() => [
  { value: '', text: 'Each rule as it says' },
  { value: 'log', text: props.kind === 'site' ? 'Not handed over at all' : 'Only record, for all of it' },
  ...(props.kind === 'site' ? [] : [{ value: 'warn', text: 'Warn, for all that warns or blocks' }]),
  { value: 'block', text: 'Block, for all that warns or blocks' },
])
const HOLD_BACKS = computed(() => {
  const spans = [1, 3, 7, 14, 30].map((days) => ({ value: `P${days}D`, text: counted(days, 'day') }))
  const own = known.value?.hold_back
  const other = own && !spans.some(({ value }) => value === own) ? [{ value: own, text: own }] : []
  return [
    { value: '', text: 'What its sets take in later is stopped at once' },
    ...[...spans, ...other].map(({ value, text }) => ({
      value,
      text: `What its sets take in later is only logged for ${text}`,
    })),
  ]
})
const PLACES = [
  { value: 'anywhere', text: 'Anywhere' },
  { value: 'on-site', text: 'Only on-site' },
  { value: 'off-site', text: 'Only off-site' },
]
const scheduleOptions = computed(() => [
  { value: '', text: 'Always' },
  ...(schedules.value ?? []).map(({ key, name }) => ({ value: key, text: `During ${name}` })),
])
const reached = computed(() =>
  Math.max(
    listed(draft.devices).length,
    ...(groups.value ?? []).filter(({ key }) => draft.groups.includes(key)).map((one) => one.devices),
  ),
)
const targets = computed(() => [...draft.groups, ...listed(draft.devices).map((device) => ({ device }))])
const body = computed(() => {
  const people = { users: listed(draft.users), user_groups: listed(draft.user_groups) }
  return {
    ruleset: props.ruleset,
    to: targets.value,
    people: people.users.length || people.user_groups.length ? people : null,
    place: draft.place,
    schedule: draft.schedule || null,
    starts: draft.starts ?? null,
    ends: draft.ends ?? null,
    until_restart: draft.until_restart,
    action: (draft.action || null) as Assignment['action'],
    mandatory: draft.mandatory,
    replaces_weaker: draft.replaces_weaker,
    report_presence: draft.report_presence,
    end_running: draft.end_running,
    hold_back: draft.hold_back || null,
    // what is held back no longer is not kept either
    members: (draft.hold_back && known.value?.members) || null,
    came: (draft.hold_back && known.value?.came) || [],
    reason: draft.reason.trim() || null,
    ticket: draft.ticket.trim() || null,
    owner: draft.owner.trim() || null,
  }
})
const mine = computed(() =>
  known.value
    ? { ...assignmentBody(known.value), ...body.value }
    : { ...body.value, state: 'active' as const },
)
const written = refDebounced(
  computed(() =>
    shown.value && targets.value.length ? { assignment: { ...mine.value, state: 'active' as const } } : null,
  ),
  400,
)
const warnings = useWarnings(written)

// --- what weaker groups open of it ---

const OPENS = 'opened-by-weaker'
/** What they would open, once it has turned out that they do; the answer makes it go from the warnings. */
const opening = ref('')
const answer = ref<'' | 'may' | 'closed'>('')
watch([shown, () => targets.value.map(targetText).join()], () => {
  opening.value = ''
  answer.value = ''
})
watch(warnings.data, (found) => {
  opening.value = found?.find(({ code }) => code === OPENS)?.sentence ?? opening.value
})
watch(answer, (word) => {
  if (word) draft.replaces_weaker = word === 'closed'
})
/** Whether what is written for a moment is none, or not read yet. */
const unread = computed(() => draft.starts === undefined || draft.ends === undefined)
const unanswered = computed(() => !!opening.value && !answer.value && !known.value)
const otherWarnings = computed(() => (warnings.data.value ?? []).filter(({ code }) => code !== OPENS))
function save(version = known.value?.version) {
  const onSuccess = () => (shown.value = false)
  const where = targets.value.map(targetText).join(', ')
  const title = `${props.ruleset} on ${where}`
  if (known.value) put.plan({ body: mine.value as AssignmentBody, version: version! }, { title, onSuccess })
  else assign.plan(mine.value, { title, onSuccess, draft: { ...body.value, state: 'draft' } })
}
const keepMine = () => save(Number((put.error.value as Problem).extra.version))
function takeTheirs() {
  shown.value = false
}
</script>

<template>
  <BModal
    v-model="shown"
    :title="assignment ? `Change ${assignment.key}` : `Assign ${ruleset}`"
    title-tag="h2"
    size="lg"
    no-footer
    :no-close-on-esc="touched"
    :no-close-on-backdrop="touched"
    @hide-prevented="slipped = true"
  >
    <form @submit.prevent="save()">
      <div class="columns">
        <fieldset class="groups">
          <legend class="form-label">Groups, strongest first</legend>
          <BFormCheckbox v-for="group in groups" :key="group.key" v-model="draft.groups" :value="group.key">
            {{ group.key }} <span class="dim small">{{ group.devices }}</span>
          </BFormCheckbox>
          <label class="form-label mt-3" for="assign-devices">Single machines</label>
          <BFormInput id="assign-devices" v-model="draft.devices" placeholder="eastquay-kiosk-01" />
        </fieldset>
        <div>
          <fieldset v-if="kind !== 'site'">
            <legend class="form-label"><Icon name="person" /> For whom</legend>
            <BFormInput
              v-model="draft.users"
              aria-label="Only these people"
              placeholder="everybody, or people joined by commas"
              class="mb-2"
            />
            <BFormInput
              v-model="draft.user_groups"
              aria-label="Only people in these user groups"
              placeholder="user groups, such as pursers"
            />
          </fieldset>
          <p v-else class="small dim">
            A browser's managed policy belongs to the machine, so a site list cannot be for some people only.
          </p>
          <fieldset class="mt-3">
            <legend class="form-label"><Icon name="clock" /> When and where</legend>
            <div class="pair">
              <BFormSelect v-model="draft.schedule" aria-label="Schedule" :options="scheduleOptions" />
              <BFormSelect v-model="draft.place" aria-label="Place" :options="PLACES" />
              <MomentInput v-model="draft.starts" label="From" />
              <MomentInput v-model="draft.ends" label="Until" ends />
            </div>
            <BFormCheckbox v-model="draft.until_restart" class="mt-2"
              >Until the machine restarts</BFormCheckbox
            >
          </fieldset>
          <fieldset class="mt-3">
            <legend class="form-label">How strongly</legend>
            <BFormSelect v-model="draft.action" aria-label="Action" :options="OVERRIDES" />
            <BFormCheckbox v-model="draft.mandatory" class="mt-2"
              ><Icon name="nut" /> Mandatory: no ordinary assignment can undo it</BFormCheckbox
            >
            <BFormCheckbox v-model="draft.replaces_weaker"
              >In place of what weaker groups have of this kind</BFormCheckbox
            >
            <BFormCheckbox v-if="kind === 'startup'" v-model="draft.report_presence"
              >Find machines that have such a program, started or not</BFormCheckbox
            >
            <BFormCheckbox v-if="kind === 'startup'" v-model="draft.end_running"
              >End such programs that run already, after a notice</BFormCheckbox
            >
            <BFormSelect
              v-if="kind === 'startup'"
              v-model="draft.hold_back"
              class="mt-2"
              aria-label="What its sets take in later"
              :options="HOLD_BACKS"
            />
          </fieldset>
          <label class="form-label mt-3" for="reason">Reason</label>
          <BFormInput
            id="reason"
            v-model="draft.reason"
            maxlength="2000"
            placeholder="Crew on satellite links"
          />
          <label class="form-label mt-3" for="owner"
            ><Icon name="key" /> Owner, where it is an exception</label
          >
          <BFormInput
            id="owner"
            v-model="draft.owner"
            maxlength="255"
            placeholder="who answers for it; it needs a reason and an end"
          />
          <label class="form-label mt-3" for="ticket">Ticket</label>
          <BFormInput
            id="ticket"
            v-model="draft.ticket"
            maxlength="255"
            placeholder="a change request, as in CR-1204"
          />
        </div>
      </div>
      <fieldset v-if="opening" class="opening">
        <legend class="form-label">May weaker groups open parts of it?</legend>
        <p class="small mb-1">{{ opening }}</p>
        <BFormRadioGroup
          v-model="answer"
          name="opening"
          :options="[
            { value: 'may', text: 'They may' },
            { value: 'closed', text: 'No: it stands in place of what they have of this kind' },
          ]"
        />
      </fieldset>
      <WarningList :warnings="otherWarnings" />
      <SaveProblem :problem="error" :mine="mine" @take="takeTheirs" @keep="keepMine" />
      <div class="buttons">
        <span class="dim" role="status">{{
          slipped
            ? 'Your choices are still here; Back drops them'
            : targets.length
              ? `Reaches ${counted(reached, 'machine')} or more`
              : 'Choose at least one group or machine'
        }}</span>
        <button type="button" class="btn btn-light" @click="shown = false">Back</button>
        <button
          type="submit"
          class="btn btn-primary"
          :disabled="!targets.length || busy || unanswered || unread"
        >
          Save
        </button>
      </div>
    </form>
  </BModal>
</template>

<style scoped>
.opening {
  margin-top: 1rem;
  padding: 0.6rem 0.9rem;
  border-left: 3px solid var(--brass-2);
  background: var(--warn-wash);
}
.opening .form-label {
  font-size: 1rem;
  margin-bottom: 0.2rem;
}
.columns {
  display: grid;
  grid-template-columns: 230px minmax(0, 1fr);
  gap: 1.5rem;
}
legend {
  font-size: inherit;
}
.buttons {
  display: flex;
  align-items: center;
  justify-content: flex-end;
  gap: 0.5rem;
  margin-top: 1.1rem;
}
.buttons .dim {
  margin-right: auto;
}
</style>
