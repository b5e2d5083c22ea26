<script setup lang="ts">
/**
 * A dialog that is filled in: its fields, why it could not be done, back, and the one button that does it. `done` is
 * what is shown in place of the fields, once it is done.
 */
defineProps<{
  title: string
  does: string
  error?: Error | null
  disabled?: boolean
  size?: 'lg'
  lazy?: boolean
}>()
defineEmits<{ submit: [] }>()
const shown = defineModel<boolean>({ required: true })
</script>

<template>
  <BModal v-model="shown" :title="title" title-tag="h2" no-footer :size="size" :lazy="lazy">
    <div v-if="$slots.done" role="status">
      <slot name="done" />
      <BButton variant="primary" @click="shown = false">Done</BButton>
    </div>
    <template v-else>
      <form @submit.prevent="$emit('submit')">
        <slot />
        <p v-if="error" class="wrong" role="alert"><Icon name="exclamation" /> {{ error.message }}</p>
        <div class="buttons">
          <BButton variant="light" @click="shown = false">Back</BButton>
          <BButton type="submit" variant="primary" :disabled="disabled">{{ does }}</BButton>
        </div>
      </form>
      <slot name="after" />
    </template>
  </BModal>
</template>

<style scoped>
.wrong {
  color: var(--block);
  margin: 0.7rem 0 0;
}
.buttons {
  display: flex;
  justify-content: flex-end;
  gap: 0.5rem;
  margin-top: 1.1rem;
}
</style>
