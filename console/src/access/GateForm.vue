<script setup lang="ts">
/** What is filled in before anything is seen: a name and a password, by and large. */
defineProps<{ does: string; error?: Error | null; disabled?: boolean }>()
defineEmits<{ submit: [] }>()
</script>

<template>
  <div class="gate">
    <form class="panel" @submit.prevent="$emit('submit')">
      <h1><Icon name="doorClosed" class="door" /> Portero</h1>
      <p class="sub"><slot name="about" /></p>
      <slot />
      <p v-if="error" class="wrong" role="alert"><Icon name="exclamation" /> {{ error.message }}</p>
      <BButton type="submit" variant="primary" :disabled="disabled">{{ does }}</BButton>
      <slot name="below" />
    </form>
  </div>
</template>

<style scoped>
.gate {
  min-height: 100vh;
  display: grid;
  place-items: start center;
  padding-top: 16vh;
}
form {
  width: 22rem;
  display: grid;
  gap: 0.35rem;
}
h1 {
  margin-bottom: 0.2rem;
}
.door {
  color: var(--brass-2);
}
:deep(.form-label) {
  margin-top: 0.5rem;
}
.btn {
  margin: 1rem 0 0.4rem;
}
.wrong {
  color: var(--block);
  margin: 0.6rem 0 0;
}
</style>
