<script setup lang="ts">
import { computed, ref, shallowRef, watch } from 'vue'

import type { Problem } from '@/api/client'
import { type AnyObject, callsOf, type Noun } from './useNouns'

/** An object of any noun as its document, in JSON: shown to everybody, changed by those who may. */
const props = defineProps<{ noun: Noun; object?: AnyObject; may: boolean }>()
const emit = defineEmits<{ saved: [key: string] }>()
const calls = callsOf(props.noun)
const create = calls.useCreate()
const put = calls.usePut()
const remove = calls.useRemove()

function written(object?: AnyObject): string {
  const document = { ...(object ?? { [props.noun.key]: '' }) }
  delete document.version
  return JSON.stringify(document, (_name, value) => (value === null ? undefined : value), 2)
}
/** The object as it was when the editing began: what is saved is saved over that one. */
const seen = shallowRef(props.object)
const text = ref(written(props.object))
const unreadable = ref('')
const changed = computed(() => text.value !== written(seen.value))
const problem = computed(() => create.error.value ?? put.error.value ?? remove.error.value)
watch(
  () => props.object,
  () => {
    // what others save shows at once, unless it would take away what is being edited
    if (!changed.value) reset()
  },
)
function reset() {
  seen.value = props.object
  text.value = written(props.object)
}

function read(): AnyObject | undefined {
  try {
    return JSON.parse(text.value)
  } catch {
    return undefined
  }
}
function take() {
  put.reset()
  reset()
}
/** `over` what somebody else saved meanwhile. */
function save(over = false) {
  const body = read()
  unreadable.value = body ? '' : 'This does not read as JSON: look for a missing quote, comma or bracket.'
  if (!body) return
  const version = over ? Number((put.error.value as Problem).extra.version) : seen.value?.version
  const key = String(body[props.noun.key] ?? '')
  const title = `${props.noun.word} ${key}`
  if (props.object) put.plan({ body, version }, { title, onRead: () => setTimeout(reset) })
  else create.plan(body, { title: `new ${title}`, onRead: () => emit('saved', key) })
}
function drop() {
  const key = String(props.object![props.noun.key])
  remove.plan(props.object!, {
    title: `remove ${props.noun.word} ${key}`,
    onRead: () => emit('saved', ''),
  })
}
</script>

<template>
  <form @submit.prevent="save()">
    <label class="form-label" for="document">Its document, in JSON</label>
    <BFormTextarea id="document" v-model="text" class="document" rows="18" :readonly="!may" />
    <p v-if="unreadable" class="wrong mt-2 mb-0" role="alert">{{ unreadable }}</p>
    <SaveProblem :problem="problem" :mine="read()" @take="take" @keep="save(true)" />
    <div v-needs:[noun.right] class="d-flex gap-2 mt-3">
      <BButton type="submit" variant="primary" :disabled="!changed">{{
        object ? 'Save' : `Make ${noun.word}`
      }}</BButton>
      <BButton v-if="changed" variant="light" @click="reset()">Undo changes</BButton>
      <BButton v-if="object" variant="light" class="ms-auto" @click="drop">Remove</BButton>
    </div>
  </form>
</template>

<style scoped>
.document {
  font-family: var(--bs-font-monospace);
  font-size: 0.85rem;
}
</style>
