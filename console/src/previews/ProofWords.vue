<script setup lang="ts">
import { computed, ref, watch } from 'vue'

import type { Schemas } from '@/api/client'
import { useProbeSets } from '@/verifying/useDrawUp'

/** The probes that a change carries: what they come to now and then; they are kept with it as its proof. */
const props = defineProps<{ words: string[]; forecasts: Schemas['Forecast'][]; error?: Error }>()
const emit = defineEmits<{ carry: [words: string[]] }>()
const { data: sets } = useProbeSets()
const word = ref('')
const failing = computed(() => props.forecasts.some(({ refused }) => refused))
function add() {
  const added = word.value.trim()
  if (added) emit('carry', [...new Set([...props.words, added])])
}
// taken up
watch(
  () => props.words,
  (taken) => {
    if (taken.includes(word.value.trim())) word.value = ''
  },
)
const without = (gone: string) => props.words.filter((one) => one !== gone)
</script>

<template>
  <section class="proof" aria-label="What is to prove it">
    <div class="adding">
      <label for="prove" class="sub">Proved by</label>
      <BFormInput
        id="prove"
        v-model="word"
        list="prove-sets"
        maxlength="8400"
        placeholder="block reeltide.example on ships; or a probe set"
        @keydown.enter.prevent="add"
      />
      <datalist id="prove-sets"><option v-for="one in sets" :key="one.key" :value="one.key" /></datalist>
      <BButton variant="light" :disabled="!word.trim()" @click="add">Add probe</BButton>
    </div>
    <p v-if="error" class="wrong" role="alert"><Icon name="exclamation" /> {{ error.message }}</p>
    <p v-if="words.length" class="mb-1">
      <span v-for="one in words" :key="one" class="chip me-2"
        >{{ one }}
        <BButton
          variant="link"
          class="p-0"
          :aria-label="`Without ${one}`"
          @click="emit('carry', without(one))"
          ><Icon name="cross"
        /></BButton>
      </span>
    </p>
    <ul v-if="forecasts.length" class="small" :class="{ failing }">
      <li v-for="one in forecasts" :key="`${one.set}/${one.number}`">
        <ActionMark :action="one.expected" /> <code>{{ one.tried }}</code> {{ one.sentence }}
        <b v-if="one.refused"> The change is refused for it.</b>
      </li>
    </ul>
  </section>
</template>

<style scoped>
.proof {
  margin-top: 0.9rem;
}
.adding {
  display: flex;
  align-items: center;
  gap: 0.6rem;
  margin-bottom: 0.4rem;
}
.adding label,
.adding .btn {
  white-space: nowrap;
}
ul {
  list-style: none;
  margin: 0;
  padding: 0.2rem 0.8rem;
  border-left: 3px solid var(--line);
}
ul.failing {
  border-color: var(--block);
}
.wrong {
  color: var(--block);
}
</style>
