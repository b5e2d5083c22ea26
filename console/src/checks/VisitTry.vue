<script setup lang="ts">
import { ref } from 'vue'

import type { Explanation } from '@/api/client'
import { useCheckVisit } from './useChecks'

/** Try a visit on a machine: what is meant, what it would really do, and the ladder that says why. */
const props = defineProps<{ device: string }>()
const url = ref('')
const person = ref('')
const { mutate, data, error, isPending } = useCheckVisit()

function tryIt(tried?: string) {
  if (tried) url.value = tried
  if (url.value.trim())
    mutate({ device: props.device, url: url.value.trim(), user: person.value.trim() || undefined })
}
const titleOf = (layer: string) =>
  layer === 'browser' ? 'Browser, by its site list' : layer === 'startup' ? 'Startup' : 'Filter'
/** The filter always, the others where they have a say. */
const shownLayers = (found: Explanation) =>
  found.intended.layers.filter((one) => one.layer === 'filter' || one.winner || one.lost.length)
defineExpose({ tryIt })
</script>

<template>
  <section class="panel" aria-label="Try a visit">
    <form class="ask" @submit.prevent="tryIt()">
      <BFormInput
        v-model="url"
        placeholder="https://lucky-reef.example/"
        aria-label="Address to try"
        maxlength="8192"
      />
      <BFormInput v-model="person" class="who" placeholder="by anybody" aria-label="Person" maxlength="255" />
      <BButton type="submit" variant="primary" :disabled="isPending">Try</BButton>
    </form>
    <div aria-live="polite">
      <p v-if="error" class="wrong"><Icon name="exclamation" /> {{ error.message }}</p>
      <div v-else-if="data" class="answer">
        <div class="verdicts">
          <span>Intended <ActionMark :action="data.intended.verdict" /></span>
          <span>Effective <ActionMark :action="data.effective.verdict" /></span>
          <span class="dim">
            <code>{{ data.host }}</code> is in {{ data.categories.join(', ') }}
            <template v-if="data.category_entry && data.category_entry !== data.host">
              by the entry for <code>{{ data.category_entry }}</code>
            </template>
          </span>
        </div>
        <p v-if="data.gap !== 'none'" class="gap-line">
          <Icon name="exclamationFill" />
          {{
            data.gap === 'looser'
              ? 'A gap: meant to be stopped, and is not.'
              : 'A gap: stopped, and not meant to be.'
          }}
        </p>
        <template v-for="layer in data.intended.layers" :key="layer.layer">
          <h3 v-if="shownLayers(data).length > 1 && shownLayers(data).includes(layer)" class="layer">
            {{ titleOf(layer.layer) }}
          </h3>
          <LadderView v-if="shownLayers(data).includes(layer)" :layer="layer" />
        </template>
        <CaveatList :caveats="data.effective.caveats" />
      </div>
    </div>
  </section>
</template>

<style scoped>
.ask {
  display: flex;
  gap: 0.5rem;
}
.who {
  max-width: 9rem;
}
.answer {
  margin-top: 0.9rem;
}
.verdicts {
  display: flex;
  flex-wrap: wrap;
  gap: 0.3rem 1.2rem;
  margin-bottom: 0.6rem;
}
.layer {
  font-size: 0.8125rem;
  font-weight: 600;
  color: var(--ink-2);
  margin: 0.4rem 0 0.3rem;
}
.gap-line {
  color: var(--block);
  font-weight: 600;
  margin-bottom: 0.6rem;
}
.wrong {
  color: var(--block);
  margin: 0.7rem 0 0;
}
</style>
