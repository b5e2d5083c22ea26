<script setup lang="ts">
import { computed, useId } from 'vue'

import { useSession } from '@/access/useSession'
import type { useEditor } from './useEditor'

type Named = { key: string; name: string }
type Editor = ReturnType<typeof useEditor<{ key: string }, Named, { key: string }>>

/** The frame of an editor: key and name, the buttons that save, what it says of itself, and why saving failed. */
const props = defineProps<{
  editor: Editor
  keyExample: string
  nameExample: string
  /** Not to be changed, by anybody. */
  fixed?: boolean
  blocked?: boolean
  /** Whether it is there, and nothing uses it. */
  removable?: boolean
  /** What else went wrong here. */
  otherProblem?: Error | null
}>()
const id = useId()
const { mayAuthor } = useSession()
const { noun, draft, body, changed, isNew, saving, reset, submit, drop, takeTheirs, keepMine } = props.editor
const mayChange = computed(() => mayAuthor.value && !props.fixed)
const problem = computed(() => props.editor.problem.value ?? props.otherProblem)
</script>

<template>
  <form class="panel" @submit.prevent="submit">
    <div class="names">
      <div v-if="isNew">
        <label class="form-label" :for="`${id}-key`">Key</label>
        <BFormInput
          :id="`${id}-key`"
          v-model="draft.key"
          required
          maxlength="64"
          pattern="[a-z0-9][a-z0-9\-]*"
          :placeholder="keyExample"
          :aria-describedby="`${id}-help`"
        />
        <div :id="`${id}-help`" class="small dim">Lower-case letters, digits and “-”; it never changes.</div>
      </div>
      <div>
        <label class="form-label" :for="`${id}-name`">Name</label>
        <BFormInput
          :id="`${id}-name`"
          v-model="draft.name"
          maxlength="120"
          :placeholder="draft.key || nameExample"
          :disabled="!mayChange"
        />
      </div>
      <slot name="beside-name" />
      <div class="save">
        <BButton v-if="removable && !fixed" v-needs:author variant="light" @click="drop"
          >Remove {{ noun }}</BButton
        >
        <BButton v-if="changed && !isNew" variant="light" @click="reset">Undo changes</BButton>
        <BButton
          v-if="!fixed"
          v-needs:author
          type="submit"
          variant="primary"
          :disabled="!changed || blocked || saving"
        >
          {{ isNew ? `Make ${noun}` : 'Save' }}
        </BButton>
      </div>
    </div>
    <slot />
    <SaveProblem :problem="problem" :mine="body" @take="takeTheirs" @keep="keepMine" />
    <slot name="below" />
  </form>
</template>

<style scoped>
.names {
  display: flex;
  gap: 0.9rem;
  align-items: start;
}
.names > div {
  flex: 1;
  max-width: 18rem;
}
.names .save {
  margin-left: auto;
  max-width: none;
  flex: none;
  display: flex;
  gap: 0.5rem;
  padding-top: 1.45rem;
}
</style>
