<script setup lang="ts">
import type { DraftPin } from './groupDraft'

/** Machines put in, or kept out, by hand, each with a reason. */
const props = defineProps<{ pins: DraftPin[]; title: string; where: 'in' | 'out' }>()

/* the draft is the page's own, made to be edited in place */
/* eslint-disable vue/no-mutating-props */
const add = () => props.pins.push({ device: '', reason: '' })
const remove = (place: number) => props.pins.splice(place, 1)
</script>

<template>
  <fieldset class="pins">
    <legend><Icon name="pin" class="dim" /> {{ title }}</legend>
    <div v-for="(pin, place) in pins" :key="place" class="pin">
      <BFormInput
        v-model="pin.device"
        placeholder="hostname"
        :aria-label="`Machine pinned ${where}`"
        maxlength="253"
      />
      <BFormInput
        v-model="pin.reason"
        placeholder="why"
        :aria-label="`Why it is pinned ${where}`"
        maxlength="2000"
      />
      <BButton variant="link" aria-label="Remove this pin" @click="remove(place)"
        ><Icon name="cross"
      /></BButton>
    </div>
    <BButton variant="link" @click="add"><Icon name="plus" /> Pin a machine {{ where }}</BButton>
  </fieldset>
</template>

<style scoped>
legend {
  font-size: 0.8125rem;
  font-weight: 600;
  color: var(--ink-2);
}
.pin {
  display: grid;
  grid-template-columns: 12rem minmax(0, 1fr) auto;
  gap: 0.35rem;
  margin-bottom: 0.3rem;
}
</style>
