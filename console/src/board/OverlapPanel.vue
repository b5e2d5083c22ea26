<script setup lang="ts">
import { computed, ref, watch } from 'vue'

import { counted } from '@/lib/words'
import { type OverlapAsked, type OverlapRow, useOverlap } from './useBoard'

/** What chosen groups, or one machine's groups, each say of things, and what wins on the machines they share. */
const MOST_OUTCOMES = 8
const props = defineProps<{ asked: OverlapAsked; typed: string }>()
const emit = defineEmits<{ type: [text: string]; why: [row: OverlapRow] }>()
const { data, isPending, error, refetch } = useOverlap(() => props.asked)
const text = ref(props.typed)
watch(
  () => props.typed,
  (typed) => (text.value = typed),
)
const named = computed(() => data.value?.targets ?? [])
const title = computed(() => {
  const found = data.value
  if (!found) return 'What they come to'
  if (props.asked.device) return `What governs ${props.asked.device}`
  const verb = found.targets.length > 1 ? 'meet' : 'is'
  return `${found.targets.join(' and ')} ${verb} on ${counted(found.devices, 'machine')}`
})
const saidBy = (row: OverlapRow, target: string) =>
  row.contributions.filter((contribution) => contribution.target === target)
const columns = computed(() =>
  props.asked.device
    ? named.value.filter((target) => data.value!.rows.some((row) => saidBy(row, target).length))
    : named.value,
)
</script>

<template>
  <section class="panel flush" aria-labelledby="overlap">
    <div class="headline">
      <h2 id="overlap">{{ title }}</h2>
      <form @submit.prevent="emit('type', text.trim())">
        <BFormInput
          v-model="text"
          type="search"
          aria-label="Category, host, URL or program"
          placeholder="a category, host, URL or program"
          maxlength="8192"
        />
        <BButton type="submit" variant="light">Look</BButton>
      </form>
    </div>
    <p v-if="data?.examples.length && !asked.device" class="small dim px-3 mb-1">
      such as {{ data.examples.slice(0, 4).join(', ') }}
    </p>
    <StateBox
      :loading="isPending"
      :error="error"
      :empty="data?.rows.length === 0"
      :rows="3"
      @retry="refetch()"
    >
      <template #empty
        ><p class="sub mb-0">They name nothing that the other does not leave alone.</p></template
      >
      <div class="scroll">
        <BTableSimple v-if="data" hover caption-top>
          <caption class="visually-hidden">
            What each says, and what wins
          </caption>
          <BThead
            ><BTr
              ><BTh>What</BTh><BTh v-for="target in columns" :key="target">{{ target }}</BTh
              ><BTh>On those machines</BTh><BTh><span class="visually-hidden">Why</span></BTh></BTr
            ></BThead
          >
          <BTbody>
            <BTr v-for="row in data.rows" :key="row.subject" :class="{ differs: row.differ }">
              <BTh scope="row"
                >{{ row.words }}
                <span v-if="row.alike" class="small dim"
                  >and {{ row.alike.toLocaleString() }} more alike</span
                ></BTh
              >
              <BTd v-for="target in columns" :key="target">
                <div v-for="one in saidBy(row, target)" :key="one.assignment + one.action" class="said">
                  <ActionMark :action="one.action" /> <span class="small">{{ one.ruleset }}</span>
                  <span v-if="one.conditions" class="small dim">{{ one.conditions }}</span>
                </div>
                <span v-if="!saidBy(row, target).length" class="dim">–</span>
              </BTd>
              <BTd>
                <div
                  v-for="(outcome, number) in row.outcomes.slice(0, MOST_OUTCOMES)"
                  :key="number"
                  class="said"
                >
                  <ActionMark :action="outcome.verdict" />
                  <span v-if="outcome.when" class="small dim">{{ outcome.when }}</span>
                  <span v-if="outcome.by" class="small">by {{ outcome.by }}</span>
                </div>
                <div v-if="row.outcomes.length > MOST_OUTCOMES" class="small dim">
                  and {{ row.outcomes.length - MOST_OUTCOMES }} more
                </div>
              </BTd>
              <BTd class="text-end">
                <BButton
                  v-if="row.outcomes.length && row.url"
                  variant="link"
                  size="sm"
                  :aria-label="`Why: ${row.words}`"
                  @click="emit('why', row)"
                  >Why?</BButton
                >
              </BTd>
            </BTr>
          </BTbody>
        </BTableSimple>
      </div>
    </StateBox>
  </section>
</template>

<style scoped>
.headline {
  display: flex;
  flex-wrap: wrap;
  gap: 0.8rem;
  align-items: center;
  justify-content: space-between;
  padding: 0.7rem 1.1rem 0.4rem;
}
.headline h2 {
  margin: 0;
  overflow-wrap: anywhere;
}
form {
  display: flex;
  gap: 0.4rem;
  width: 22rem;
}
.scroll {
  overflow-x: auto;
}
.said {
  display: flex;
  gap: 0.35rem;
  align-items: center;
  flex-wrap: wrap;
}
.differs th {
  box-shadow: inset 3px 0 0 var(--brass-2);
}
</style>
