<script setup lang="ts">
import { useRouteQuery } from '@vueuse/router'
import { ref, watch } from 'vue'

import { api, told } from '@/api/client'
import { attempted, programOf } from '@/lib/tried'
import WhyAnswer from './WhyAnswer.vue'
import { type Question, useWhy } from './useWhy'

/** The help desk's question: why is this stopped, or not, for whoever asks? By machine and host, or by a notice's reference. */
const machine = useRouteQuery<string>('machine', '')
const what = useRouteQuery<string>('what', '')
const expected = useRouteQuery<string>('expected', '')
const person = useRouteQuery<string>('person', '')
const browser = useRouteQuery<string>('browser', '')
const reference = ref('')
const unknown = ref('')
const { mutate, data, error, isPending, reset } = useWhy()
const EXPECTED = [
  { value: '', text: 'whatever it should not' },
  { value: 'block', text: 'to be stopped' },
  { value: 'warn', text: 'to be warned of' },
  { value: 'allow', text: 'to pass' },
]

/** Takes over what a notice was about, by the reference on it. */
async function find() {
  unknown.value = ''
  const asked = reference.value.trim().toUpperCase()
  if (!asked) return true
  const found = await told(api.GET('/api/v1/activity', { params: { query: { reference: asked, limit: 1 } } }))
  const one = found.items[0]
  if (!one?.url) {
    unknown.value = one
      ? 'That notice was about a program; ask on the machine’s page.'
      : `No notice has the reference ${asked}.`
    return false
  }
  machine.value = one.hostname
  what.value = one.url
  person.value = one.user ?? ''
  expected.value = 'allow'
  reference.value = ''
  return true
}

async function ask() {
  try {
    if (!(await find())) return
  } catch (problem) {
    unknown.value = (problem as Error).message
    return
  }
  const attempt = {
    device: machine.value.trim(),
    ...attempted(what.value),
    user: person.value.trim() || undefined,
    browser: programOf(what.value.trim()) ? undefined : browser.value.trim() || undefined,
  }
  if (attempt.device && what.value.trim())
    mutate({ attempt, expected: (expected.value || undefined) as Question['expected'] })
}

// a link from elsewhere brings the question along
watch([machine, what], () => reset())
if (machine.value && what.value) void ask()
</script>

<template>
  <div class="page">
    <VerifyTabs />
    <PageHead title="Why?">
      <span>Why something is, or is not, stopped: every cause in the order in which to rule them out.</span>
    </PageHead>
    <section class="panel mt-3">
      <form class="question" @submit.prevent="ask">
        <MachineInput v-model="machine" label="Machine" />
        <label class="address">
          <span class="form-label">Address or program</span>
          <BFormInput
            v-model="what"
            placeholder="https://lucky-reef.example/ or program:NAME"
            maxlength="8192"
          />
        </label>
        <label>
          <span class="form-label">Person</span>
          <BFormInput v-model="person" placeholder="anybody" maxlength="255" />
        </label>
        <label>
          <span class="form-label">Browser</span>
          <BFormInput v-model="browser" placeholder="any" maxlength="64" />
        </label>
        <label>
          <span class="form-label">It was expected</span>
          <BFormSelect v-model="expected" :options="EXPECTED" />
        </label>
        <label>
          <span class="form-label">or a notice’s reference</span>
          <BFormInput v-model="reference" placeholder="K7QF-2MXB" maxlength="9" />
        </label>
        <BButton type="submit" variant="primary" :disabled="isPending">Ask</BButton>
      </form>
      <p v-if="unknown || error" class="wrong" role="alert">
        <Icon name="exclamation" /> {{ unknown || error?.message }}
      </p>
    </section>
    <section v-if="data" class="panel" aria-label="Answer">
      <WhyAnswer :why="data" @mended="ask" />
    </section>
  </div>
</template>

<style scoped>
.wrong {
  color: var(--block);
  margin: 0.7rem 0 0;
}
</style>
