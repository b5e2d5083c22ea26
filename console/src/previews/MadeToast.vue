<script setup lang="ts">
import { useTimeoutFn } from '@vueuse/core'
import { computed, watch } from 'vue'
import { useRouter } from 'vue-router'

import { counted } from '@/lib/words'
import { useRestore } from '@/revisions/useRevisions'
import { useStartRun } from '@/verifying/useRuns'
import { made } from './plannedChange'

/** A change that was made: where it can be followed, and the way back. */
const router = useRouter()
const restore = useRestore()
const { start, stop } = useTimeoutFn(() => (made.value = undefined), 20_000, { immediate: false })
watch(made, (change) => {
  restore.reset()
  if (change) start()
})
const sentence = computed(() => {
  const { revision, machines } = made.value!
  if (!machines) return `Revision ${revision} is made; no machine has anything to fetch.`
  return `Revision ${revision} is in force; ${counted(machines, 'machine')} ${machines === 1 ? 'fetches' : 'fetch'} it.`
})
/** Every probe set is predicted at once, and its page opens: there machines can be asked, and the run signed. */
const { mutate, isPending } = useStartRun()
const verify = () =>
  mutate(
    { sets: [], on: [] },
    {
      onSuccess({ id }) {
        made.value = undefined
        void router.push({ name: 'runs', params: { run: id } })
      },
    },
  )
function undo() {
  const { revision } = made.value!
  restore.plan(revision - 1, { title: `undo of revision ${revision}` })
}
</script>

<template>
  <div class="made" aria-live="polite">
    <div v-if="made" class="told" @mouseenter="stop()" @mouseleave="start()" @focusin="stop()">
      <Icon name="check" />
      <span
        >{{ sentence }}
        <b v-if="restore.error.value" class="wrong">{{ restore.error.value.message }}</b></span
      >
      <RouterLink v-if="made.machines" :to="{ name: 'rollout' }">Follow it</RouterLink>
      <BButton v-needs:responder variant="link" class="p-0" :disabled="isPending" @click="verify"
        >Verify it</BButton
      >
      <BButton v-needs:author variant="link" class="p-0" @click="undo">Undo…</BButton>
      <BButton variant="link" class="p-0" aria-label="Dismiss" @click="made = undefined"
        ><Icon name="cross"
      /></BButton>
    </div>
  </div>
</template>

<style scoped>
.made {
  position: fixed;
  inset: auto 0 1.25rem;
  display: grid;
  place-items: center;
  pointer-events: none;
  z-index: 1040;
}
.told {
  display: flex;
  align-items: center;
  gap: 0.8rem;
  padding: 0.6rem 1rem;
  border: 1px solid var(--line);
  border-radius: var(--radius);
  background: var(--card);
  box-shadow: 0 4px 18px var(--shadow);
  pointer-events: auto;
}
.wrong {
  color: var(--block);
}
</style>
