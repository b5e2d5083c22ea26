<script setup lang="ts">
import { computed } from 'vue'
import { useRouter } from 'vue-router'

import { useSession } from '@/access/useSession'
import { useEditor } from '@/editing/useEditor'
import { useGroups } from '@/groups/useGroups'
import { targetText } from '@/rulesets/kinds'
import ProbeRow from './ProbeRow.vue'
import { draftOfProbe, type ProbeDraft, probeOf, targetsOf } from './probeDraft'
import { type ProbeSet, probeSets, type SavedProbeSet } from './useDrawUp'
import { useObservedProbes } from './useObserved'
import { useStartRun } from './useRuns'

/** Edit a probe set: where it counts, and each probe with what is expected of it; then try it. */
const props = defineProps<{ set?: SavedProbeSet }>()
const emit = defineEmits<{ saved: [key: string] }>()
const router = useRouter()
const { mayAuthor } = useSession()
const { data: known } = useGroups()
const groups = computed(
  () => new Set(['whole-fleet', 'unclaimed', ...(known.value ?? []).map(({ key }) => key)]),
)
const editor = useEditor({
  noun: 'probe set',
  saved: () => props.set,
  draftOf: (saved) => ({
    key: saved?.key ?? '',
    name: saved && saved.name !== saved.key ? saved.name : '',
    to: (saved?.to ?? []).map(targetText).join(', '),
    probes: (saved?.probes ?? []).map(draftOfProbe) as ProbeDraft[],
    every: saved?.every ?? '',
    every_kind: saved?.every_kind ?? 'predicted',
  }),
  bodyOf: (draft): ProbeSet => ({
    key: draft.key.trim(),
    name: draft.name.trim() || null,
    to: targetsOf(draft.to, groups.value),
    probes: draft.probes.map((one) => probeOf(one, groups.value)),
    ...(draft.every.trim() ? { every: draft.every.trim(), every_kind: draft.every_kind } : {}),
  }),
  calls: probeSets,
  done: (key) => emit('saved', key),
})
const { draft, changed } = editor
const observed = useObservedProbes(() => props.set?.key)
const unready = computed(() =>
  draft.value.probes.some(({ what, to }) => !what.trim() || !(to.trim() || draft.value.to.trim())),
)
function add(expect: ProbeDraft['expect']) {
  draft.value.probes.push({ ...draftOfProbe(), expect })
}
const KINDS = [
  { value: 'predicted', text: 'predicted: what machines would do' },
  { value: 'observed', text: 'observed: machines try it' },
]
const { mutate: start, isPending: starting, error: unstarted } = useStartRun()
const run = () =>
  start(
    { sets: [props.set!.key], on: [] },
    { onSuccess: ({ id }) => void router.push({ name: 'runs', params: { run: id } }) },
  )
</script>

<template>
  <EditorForm
    :editor="editor"
    key-example="never-break"
    name-example="What must go on working"
    :blocked="unready || !draft.probes.length"
    :removable="!!set"
    :other-problem="unstarted"
  >
    <template #beside-name>
      <div>
        <label class="form-label" for="set-to">Where its probes count</label>
        <BFormInput
          id="set-to"
          v-model="draft.to"
          maxlength="2000"
          placeholder="desks, eastquay-kiosk-01"
          :disabled="!mayAuthor"
        />
      </div>
    </template>
    <datalist id="probe-groups"><option v-for="key in groups" :key="key" :value="key" /></datalist>
    <BTableSimple class="probes mt-3" caption-top>
      <caption class="visually-hidden">
        Probes
      </caption>
      <BThead
        ><BTr
          ><BTh>This visit or start</BTh><BTh>Where</BTh><BTh>Expected</BTh
          ><BTh><span class="visually-hidden">More</span></BTh></BTr
        ></BThead
      >
      <BTbody>
        <ProbeRow
          v-for="(probe, place) in draft.probes"
          :key="place"
          :probe="probe"
          :number="place + 1"
          :where="draft.to"
          :observed="changed ? undefined : observed.get(place + 1)"
          @drop="draft.probes.splice(place, 1)"
        />
      </BTbody>
    </BTableSimple>
    <div class="every">
      <label for="set-every" class="sub">Run by itself</label>
      <BFormInput
        id="set-every"
        v-model="draft.every"
        list="set-rules"
        maxlength="200"
        placeholder="never; FREQ=DAILY;BYHOUR=6"
        :disabled="!mayAuthor"
        aria-describedby="set-every-help"
      />
      <datalist id="set-rules">
        <option value="FREQ=DAILY;BYHOUR=6;BYMINUTE=0">every morning at six</option>
        <option value="FREQ=WEEKLY;BYDAY=MO;BYHOUR=6;BYMINUTE=0">on Mondays at six</option>
        <option value="FREQ=HOURLY">every hour</option>
      </datalist>
      <BFormSelect
        v-if="draft.every.trim()"
        v-model="draft.every_kind"
        :options="KINDS"
        aria-label="As what it is run then"
        :disabled="!mayAuthor"
      />
      <span id="set-every-help" class="small dim">A rule of RFC 5545, on the clock of the settings.</span>
    </div>
    <div class="adding">
      <BButton v-needs:author variant="link" @click="add('block')"><Icon name="plus" /> Probe</BButton>
      <BButton v-needs:author variant="link" @click="add('allow')"
        ><Icon name="plus" /> Counter-probe: what must go on working</BButton
      >
      <BButton
        v-if="set"
        v-needs:responder
        variant="light"
        class="ms-auto"
        :disabled="changed || starting"
        @click="run"
        >Run it</BButton
      >
    </div>
  </EditorForm>
</template>

<style scoped>
.probes :deep(td) {
  vertical-align: top;
}
.every {
  display: flex;
  gap: 0.6rem;
  align-items: center;
  margin-bottom: 0.6rem;
}
.every label {
  white-space: nowrap;
}
.every input {
  max-width: 20rem;
}
.every select {
  max-width: 18rem;
}
.adding {
  display: flex;
  gap: 0.6rem;
  align-items: center;
}
</style>
