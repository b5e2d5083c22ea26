<script setup lang="ts">
import { useMend, type Cause, type Why } from './useWhy'

/** The answer to a why: stage by stage what is so, the cause marked, each with its next step and what mends it. */
const props = defineProps<{ why: Why }>()
const emit = defineEmits<{ mended: [] }>()
const { plan, error } = useMend()
const STAGES: Record<string, string> = {
  delivery: 'Has it arrived?',
  enforcement: 'Is it enforced?',
  content: 'What is it?',
  reach: 'Is it seen?',
  rules: 'What do the rules say?',
  person: 'What did the person see and do?',
}

function mend(cause: Cause, key: string, sentence: string) {
  const { attempt } = props.why.explanation
  const { device, user, url, start, browser, at, place } = attempt
  const asked = { device, user, url, start, browser, at, place }
  plan(
    { attempt: asked, expected: props.why.expected, cause: cause.code, remedy: key },
    { title: sentence, onRead: () => emit('mended') },
  )
}
</script>

<template>
  <div class="why" aria-live="polite">
    <p class="answer">
      <ActionMark :action="why.found" /> <b>{{ why.sentence }}</b>
    </p>
    <ol>
      <li v-for="stage in why.stages" :key="stage.stage" :class="{ clear: !stage.causes?.length }">
        <div class="stage">{{ STAGES[stage.stage] ?? stage.stage }}</div>
        <div>
          <p v-if="!stage.causes?.length" class="dim mb-0">{{ stage.sentence }}</p>
          <div
            v-for="(cause, place) in stage.causes"
            :key="place"
            class="cause"
            :class="{ it: cause.is_the_cause }"
          >
            <span v-if="cause.is_the_cause" class="says">the cause</span>
            <span v-else-if="cause.decisive" class="says also">would do too</span>
            {{ cause.detail }}
            <div class="small">{{ cause.remedy }}</div>
            <BButton
              v-for="remedy in cause.remedies"
              :key="remedy.key"
              v-needs:author
              variant="light"
              size="sm"
              class="mt-1"
              @click="mend(cause, remedy.key, remedy.sentence)"
              >{{ remedy.sentence }}…</BButton
            >
          </div>
        </div>
      </li>
    </ol>
    <p v-if="error" class="wrong" role="alert"><Icon name="exclamation" /> {{ error.message }}</p>
  </div>
</template>

<style scoped>
.answer {
  margin: 0 0 0.7rem;
}
ol {
  list-style: none;
  margin: 0;
  padding: 0;
}
li {
  display: grid;
  grid-template-columns: 10rem minmax(0, 1fr);
  gap: 0.8rem;
  padding: 0.45rem 0;
  border-top: 1px solid var(--line-2);
}
.stage {
  color: var(--ink-2);
}
.cause {
  padding: 0.3rem 0.7rem;
  border-left: 2px solid var(--line);
  overflow-wrap: anywhere;
}
.cause + .cause {
  margin-top: 0.4rem;
}
.cause.it {
  border-left: 3px solid var(--block);
}
.says {
  font-weight: 650;
  color: var(--block);
  margin-right: 0.4rem;
}
.says.also {
  font-weight: 500;
  color: var(--ink-2);
}
.wrong {
  color: var(--block);
}
@media (max-width: 700px) {
  li {
    grid-template-columns: 1fr;
    gap: 0.2rem;
  }
}
</style>
