<script setup lang="ts">
import { computed, ref, watch } from 'vue'

import { Problem } from '@/api/client'
import { useInviteList } from './useEnrolmentCodes'

/** Invite or record machines from a list; bad lines are told one by one, and then none is taken. */
const shown = defineModel<boolean>({ required: true })
const invite = useInviteList()
const list = ref('')
const codes = ref(true)
const EXAMPLE =
  'hostname,kind,unit,serial,labels.wave\noffice-laptop-45,laptop,brackwater/office,BW-45,second'

watch(shown, () => {
  invite.reset()
  list.value = ''
  codes.value = true
})
const lines = computed(() => list.value.split('\n').filter((line) => line.trim()).length)
const badLines = computed(() => {
  const error = invite.error.value
  if (!(error instanceof Problem) || !Array.isArray(error.extra.errors)) return []
  return (error.extra.errors as { pointer: string; detail: string }[]).map(({ pointer, detail }) => {
    const [, line, ...path] = pointer.split('/')
    return { line, field: path.join('.'), detail }
  })
})
async function read(event: Event) {
  const file = (event.target as HTMLInputElement).files?.[0]
  if (file) list.value = await file.text()
}
function save() {
  invite.mutate({ list: list.value, codes: codes.value })
}
const asCsv = computed(() => {
  const rows = (invite.data.value ?? []).map(({ hostname, code }) => [
    hostname,
    code ?? '',
    code ? `${window.location.origin}/join#${code}` : '',
  ])
  const text = [['hostname', 'code', 'join_page'], ...rows].map((row) => row.join(',')).join('\n')
  return `data:text/csv;charset=utf-8,${encodeURIComponent(text + '\n')}`
})
</script>

<template>
  <FormDialog
    v-model="shown"
    title="Machines from a list"
    size="lg"
    :does="lines > 1 ? `Take ${lines - 1} in` : 'Take them in'"
    :error="badLines.length ? null : invite.error.value"
    :disabled="lines < 2 || invite.isPending.value"
    @submit="save"
  >
    <template v-if="invite.data.value" #done>
      <p>
        {{ invite.data.value.length }}
        {{ codes ? 'machines are invited. Their codes are told this once.' : 'machines are recorded.' }}
      </p>
      <p v-if="codes">
        <a :href="asCsv" download="invitations.csv" class="btn btn-light">Keep the codes as a file</a>
      </p>
    </template>
    <label class="form-label" for="list-file">A file</label>
    <input id="list-file" type="file" accept=".csv,text/csv" class="form-control" @change="read" />
    <label class="form-label mt-3" for="list">or the list itself, as CSV with a heading</label>
    <BFormTextarea id="list" v-model="list" rows="7" class="mono" :placeholder="EXAMPLE" />
    <p class="small dim">
      Columns: hostname, kind, unit, serial, os.family, os.version, labels.NAME. Only hostname is needed.
    </p>
    <BFormCheckbox v-model="codes"
      >Invite them, each with a code of its own. Otherwise they are only recorded, and count as
      uncovered.</BFormCheckbox
    >
    <div v-if="badLines.length" class="bad" role="alert">
      <p><b>No machine was taken.</b> These lines cannot be:</p>
      <ul>
        <li v-for="(badLine, place) in badLines" :key="place">
          line {{ badLine.line }}<template v-if="badLine.field">, {{ badLine.field }}</template
          >: {{ badLine.detail }}
        </li>
      </ul>
    </div>
    <div
      v-if="invite.isPending.value"
      class="progress mt-3"
      role="progressbar"
      aria-label="Taking the machines in"
    >
      <div class="progress-bar progress-bar-striped progress-bar-animated w-100"></div>
    </div>
  </FormDialog>
</template>

<style scoped>
.bad {
  color: var(--block);
  margin-top: 0.8rem;
  max-height: 12rem;
  overflow: auto;
}
.bad p,
.bad ul {
  margin-bottom: 0.2rem;
}
.progress {
  height: 0.4rem;
}
.progress-bar {
  background-color: var(--brass-2);
}
</style>
