<script setup lang="ts">
import { onKeyStroke } from '@vueuse/core'
import { computed, ref, shallowRef, watch } from 'vue'

import { newestMade, type Preview } from '@/api/client'
import { made, planned } from './plannedChange'

/** What a change would do, before it is saved: put in force, keep as draft, or back to editing with nothing lost. */
const shown = ref(false)
const preview = shallowRef<Preview>()
const reason = ref('')
const saving = ref(false)
const overrule = ref(false)
/** What the gate says against it; a keeper may overrule that, and says why. */
const fails = computed(() => !!preview.value?.gate?.length)
const unproved = computed(() => !!preview.value?.proof?.some(({ refused }) => refused))
const stopped = computed(() => unproved.value || (fails.value && !(overrule.value && reason.value.trim())))
/** What is to prove it, and is kept with it. */
const prove = ref<string[]>([])
const unread = shallowRef<Error>()

watch(planned, async (asked) => {
  if (!asked) return
  preview.value = undefined
  reason.value = ''
  overrule.value = false
  prove.value = []
  unread.value = undefined
  shown.value = true
  try {
    const found = await asked.load([])
    if (planned.value === asked) preview.value = found
  } catch {
    // why is told where the change was written
    if (planned.value === asked) shown.value = false
  }
})
/** Looks ahead with these probes; they are taken up only where they can be read. */
async function carry(words: string[]) {
  const asked = planned.value
  if (!asked) return
  unread.value = undefined
  try {
    const found = await asked.load(words)
    if (planned.value !== asked) return
    preview.value = found
    prove.value = words
  } catch (problem) {
    unread.value = problem as Error
  }
}
// wherever the focus is: it may not have come into the dialog yet, or have been lost to a button that is disabled now
onKeyStroke('Escape', () => (shown.value = false))
/** The dialog has gone from the screen; unless the next planned has brought it back meanwhile, this one is over. */
function gone() {
  if (!shown.value) planned.value = undefined
}

async function commit(asDraft: boolean) {
  const asked = planned.value
  if (!asked || saving.value) return
  saving.value = true
  try {
    await asked.commit({
      asDraft,
      asking: {
        reason: reason.value.trim() || undefined,
        ...(overrule.value ? { overrule: true } : {}),
        ...(prove.value.length && !asDraft ? { prove: prove.value } : {}),
      },
    })
    made.value = { revision: newestMade(), machines: asDraft ? 0 : (preview.value?.devices ?? 0) }
  } catch {
    // why is told where the change was written
  } finally {
    saving.value = false
    if (planned.value === asked) shown.value = false
  }
}
</script>

<template>
  <BModal
    v-model="shown"
    :title="`Before you save: ${planned?.title ?? ''}`"
    title-tag="h2"
    size="xl"
    no-footer
    scrollable
    @hidden="gone"
  >
    <form @submit.prevent="commit(false)">
      <PreviewPanel :preview="preview" />
      <ProofWords
        v-if="preview?.changes.length"
        :words="prove"
        :forecasts="preview.proof ?? []"
        :error="unread"
        @carry="carry"
      />
      <BFormCheckbox v-if="fails" v-model="overrule" v-needs:keeper class="mt-3"
        >Overrule the gate; the reason goes into history</BFormCheckbox
      >
      <div class="foot">
        <label for="preview-reason" class="sub">Reason</label>
        <BFormInput
          id="preview-reason"
          v-model="reason"
          maxlength="2000"
          placeholder="why, for those who come after"
        />
        <BButton variant="light" @click="shown = false">Back to editing</BButton>
        <BButton
          v-if="planned?.mayBeDraft"
          variant="light"
          :disabled="!preview || saving"
          @click="commit(true)"
          >Keep as draft</BButton
        >
        <BButton type="submit" variant="primary" :disabled="!preview || saving || stopped"
          >Put in force</BButton
        >
      </div>
    </form>
  </BModal>
</template>

<style scoped>
.foot {
  display: flex;
  align-items: center;
  gap: 0.6rem;
  position: sticky;
  bottom: -1rem;
  margin: 1rem -1rem -1rem;
  padding: 0.8rem 1rem;
  border-top: 1px solid var(--line);
  background: var(--wash);
}
.foot .btn {
  white-space: nowrap;
}
</style>
