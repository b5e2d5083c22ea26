<script setup lang="ts">
/** The foot of a dialog: why it could not be done, back, and the one button that does it. */
defineProps<{ does: string; error?: Error | null; disabled?: boolean }>()
defineEmits<{ back: [] }>()
</script>

<template>
  <p v-if="error" class="wrong" role="alert"><Icon name="exclamation" /> {{ error.message }}</p>
  <div class="buttons">
    <BButton variant="light" @click="$emit('back')">Back</BButton>
    <BButton type="submit" variant="primary" :disabled="disabled">{{ does }}</BButton>
  </div>
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
