<script setup lang="ts">
import { computed, ref, useId } from 'vue'
import { useRouter } from 'vue-router'

import { useSession } from '@/access/useSession'
import type { Explanation, Schemas } from '@/api/client'
import { useStartRun } from '@/verifying/useRuns'
import WhyAnswer from '@/whys/WhyAnswer.vue'
import { useWhy } from '@/whys/useWhy'
import { useCheck } from './useChecks'

/** Try a visit or a start on a machine: what is meant, what it would really do, and the ladder that says why. */
const props = defineProps<{
  device: string
  /** The programs that the machine has, to choose from. */
  programs?: Schemas['Application'][]
}>()
const KINDS = [
  { value: 'visit', text: 'Visit' },
  { value: 'start', text: 'Start' },
]
const kind = ref<'visit' | 'start'>('visit')
const url = ref('')
const program = ref('')
const version = ref('')
const person = ref('')
const list = useId()
const { mutate, data, error, isPending, reset } = useCheck()
const router = useRouter()
const { data: session } = useSession()
const { mutate: start, isPending: starting, error: unstarted } = useStartRun()
const { mutate: ask, data: why, error: whyNot, isPending: asking, reset: forget } = useWhy()

/** What the machine has of the program that is named; else what is named alone. */
const started = computed(() => {
  const name = program.value.trim()
  const has = (one: Schemas['Application'], own: string | null | undefined) =>
    own?.toLowerCase() === name.toLowerCase() && (!version.value || one.version === version.value.trim())
  const known = props.programs?.find((one) => has(one, one.product) || has(one, one.file))
  const said = { product: name, ...(version.value ? { version: version.value.trim() } : {}) }
  return known ?? (/^[0-9a-f]{64}$/i.test(name) ? { sha256: name } : said)
})

/** Asks why what was tried last comes to what it does. */
function askWhy() {
  const { device, user, url, start } = data.value!.attempt
  ask({ attempt: { device, user, url, start } })
}

/** The machine itself opens it, in its own browser; what it sees is told on the page of the run. */
function haveItTried() {
  const { url, device } = data.value!.attempt
  start(
    {
      sets: [],
      on: [device],
      kind: 'observed',
      visit: url,
      expect: data.value!.intended.verdict,
      pictures: true,
    },
    { onSuccess: ({ id }) => void router.push({ name: 'runs', params: { run: id } }) },
  )
}

function tryIt(tried?: string) {
  forget()
  if (tried) {
    kind.value = 'visit'
    url.value = tried
  }
  const by = { device: props.device, user: person.value.trim() || undefined }
  if (kind.value === 'visit' && url.value.trim()) mutate({ ...by, url: url.value.trim() })
  if (kind.value === 'start' && program.value.trim()) mutate({ ...by, start: started.value })
}
const titleOf = (layer: string) =>
  layer === 'browser' ? 'Browser, by its site list' : layer === 'startup' ? 'Startup' : 'Filter'
/** A visit's filter always, the others where they have a say; all there is of a start. */
const shownLayers = (found: Explanation) =>
  found.intended.layers.filter(
    (one) => found.attempt.start || one.layer === 'filter' || one.winner || one.lost.length,
  )
defineExpose({ tryIt })
</script>

<template>
  <section class="panel" aria-label="Try it">
    <form class="ask" @submit.prevent="tryIt()">
      <BFormSelect v-model="kind" class="kind" aria-label="What to try" :options="KINDS" @change="reset()" />
      <BFormInput
        v-if="kind === 'visit'"
        v-model="url"
        placeholder="https://lucky-reef.example/"
        aria-label="Address to try"
        maxlength="8192"
      />
      <template v-else>
        <BFormInput
          v-model="program"
          :list="list"
          placeholder="a product, or a SHA-256"
          aria-label="Program to try"
          maxlength="255"
          autocomplete="off"
        />
        <datalist :id="list">
          <option v-for="(one, place) in programs ?? []" :key="place" :value="one.product ?? one.file ?? ''">
            {{ one.version }}
          </option>
        </datalist>
        <BFormInput
          v-model="version"
          class="version"
          placeholder="version"
          aria-label="Version"
          maxlength="255"
        />
      </template>
      <BFormInput v-model="person" class="who" placeholder="by anybody" aria-label="Person" maxlength="255" />
      <BButton type="submit" variant="primary" :disabled="isPending">Try</BButton>
    </form>
    <div aria-live="polite">
      <p v-if="error" class="wrong"><Icon name="exclamation" /> {{ error.message }}</p>
      <div v-else-if="data" class="answer">
        <div class="verdicts">
          <span>Intended <ActionMark :action="data.intended.verdict" /></span>
          <span>Effective <ActionMark :action="data.effective.verdict" /></span>
          <span v-if="data.observed">
            Observed <ActionMark :action="data.observed.verdict" />
            <RouterLink :to="{ name: 'runs', params: { run: data.observed.run } }"
              ><RelativeTime :at="data.observed.at" /></RouterLink
            ><template v-if="data.observed.agrees === false">, otherwise than predicted</template>
          </span>
          <span v-if="data.host" class="dim">
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
        <BButton v-if="!why" variant="light" class="mt-2" :disabled="asking" @click="askWhy"
          >Why, and what to do?</BButton
        >
        <BButton
          v-if="data.attempt.url && session?.probes_freely"
          v-needs:responder
          variant="light"
          class="mt-2 ms-2"
          :disabled="starting"
          @click="haveItTried"
          >Have the machine try it</BButton
        >
        <p v-if="unstarted" class="wrong" role="alert"><Icon name="exclamation" /> {{ unstarted.message }}</p>
        <p v-if="whyNot" class="wrong" role="alert"><Icon name="exclamation" /> {{ whyNot.message }}</p>
        <WhyAnswer v-if="why" :why="why" class="mt-3" @mended="tryIt()" />
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
.kind {
  width: auto;
}
.version {
  max-width: 6rem;
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
