<script setup lang="ts">
import { computed, ref, useId } from 'vue'

import type { Rule, RulesetBody } from '@/api/client'
import { isOpen, useAskErrand, useErrand } from './useErrand'
import { useSiteTrial } from './useSiteTrial'

/** Which hosts a page needs, asked of a machine with its real browser; and what the list makes of those it stops. */
const props = defineProps<{ ruleset: RulesetBody }>()
const emit = defineEmits<{ rules: [rules: Rule[]] }>()
const id = useId()
const url = ref('')
const machine = ref('')
const ask = useAskErrand()
const { data: errand, error: unread } = useErrand(() => ask.data.value?.id)
const page = computed(() => errand.value?.page)
const waits = computed(() => ask.isPending.value || isOpen(errand.value ?? ask.data.value))
const problem = computed(() => ask.error.value?.message ?? unread.value?.message ?? errand.value?.problem)
/** Those that browsers look up in their lists. */
const pages = computed(() =>
  (page.value?.hosts ?? []).filter(({ uses }) => uses.some((use) => use === 'page' || use === 'frame')),
)
const written = computed(() => ({
  ...props.ruleset,
  key: props.ruleset.key || 'being-written',
  name: null,
}))
const trial = useSiteTrial(written, () => pages.value.map(({ host }) => `https://${host}/`).slice(0, 100))
const meant = computed(() => {
  const tried = trial.data.value ?? []
  return new Map(pages.value.map(({ host }, place) => [host, tried[place]?.meant]))
})
const stopped = computed(() => pages.value.filter(({ host }) => meant.value.get(host) === 'block'))
const allow = () =>
  emit(
    'rules',
    stopped.value.map(({ host }) => ({ pattern: host, action: 'allow' as const })),
  )
</script>

<template>
  <section class="panel" :aria-labelledby="`${id}-head`">
    <h2 :id="`${id}-head`">Hosts that a page needs</h2>
    <form
      v-needs:author
      class="asking"
      @submit.prevent="ask.mutate({ device: machine.trim(), body: { url: url.trim() } })"
    >
      <div class="wide">
        <label class="form-label" :for="`${id}-url`">Page</label>
        <BFormInput
          :id="`${id}-url`"
          v-model="url"
          class="mono"
          required
          maxlength="8192"
          placeholder="https://tickets.example/"
        />
      </div>
      <div>
        <label class="form-label" :for="`${id}-machine`">Opened on</label>
        <BFormInput
          :id="`${id}-machine`"
          v-model="machine"
          required
          maxlength="255"
          placeholder="A machine"
        />
      </div>
      <BButton type="submit" variant="light" :disabled="waits">Open it there</BButton>
    </form>
    <p v-if="waits" class="sub small mt-2 mb-0" role="status">
      {{ machine }} opens it in a browser of its own; this takes some seconds.
    </p>
    <p v-else-if="problem" class="wrong small mt-2 mb-0" role="alert">
      <Icon name="exclamation" /> {{ problem }}
    </p>
    <template v-else-if="page">
      <p class="sub small mt-3 mb-1">
        {{ page.browser }} {{ page.version }} on {{ errand?.hostname }}: {{ page.outcome }}, at
        <code>{{ page.at_url ?? 'no page' }}</code>
      </p>
      <BTableSimple small caption-top class="mb-2">
        <caption class="visually-hidden">
          Hosts that the page needs
        </caption>
        <BThead
          ><BTr><BTh>Host</BTh><BTh>Used for</BTh><BTh>By this list</BTh></BTr></BThead
        >
        <BTbody>
          <BTr v-for="one in page.hosts" :key="one.host">
            <BTd
              ><code>{{ one.host }}</code></BTd
            >
            <BTd>{{ one.uses.join(', ') }}</BTd>
            <BTd>
              <ActionMark v-if="meant.get(one.host)" :action="meant.get(one.host)!" />
              <span v-else class="sub small">not stopped by lists</span>
            </BTd>
          </BTr>
        </BTbody>
      </BTableSimple>
      <BButton v-if="stopped.length" v-needs:author variant="light" @click="allow"
        >Allow {{ stopped.map(({ host }) => host).join(', ') }}</BButton
      >
    </template>
  </section>
</template>

<style scoped>
.asking {
  display: flex;
  flex-wrap: wrap;
  align-items: end;
  gap: 0.75rem;
}
.wide {
  flex: 1 1 20rem;
}
code {
  overflow-wrap: anywhere;
}
.wrong {
  color: var(--block);
}
</style>
