<script setup lang="ts">
import { useId } from 'vue'

/** The head of an editor: the key of what is new, the name, and the buttons that save. */
defineProps<{
  noun: string
  isNew: boolean
  keyExample: string
  nameExample: string
  changed: boolean
  fixed?: boolean
  mayAuthor: boolean
  blocked: boolean
}>()
defineEmits<{ undo: [] }>()
const key = defineModel<string>('objectKey', { required: true })
const name = defineModel<string>('name', { required: true })
const id = useId()
</script>

<template>
  <div class="names">
    <div v-if="isNew">
      <label class="form-label" :for="`${id}-key`">Key</label>
      <BFormInput
        :id="`${id}-key`"
        v-model="key"
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
        v-model="name"
        maxlength="120"
        :placeholder="key || nameExample"
        :disabled="!mayAuthor || fixed"
      />
    </div>
    <div class="save">
      <BButton v-if="changed && !isNew" variant="light" @click="$emit('undo')">Undo changes</BButton>
      <BButton v-if="mayAuthor && !fixed" type="submit" variant="primary" :disabled="!changed || blocked">
        {{ isNew ? `Make ${noun}` : 'Save' }}
      </BButton>
    </div>
  </div>
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
