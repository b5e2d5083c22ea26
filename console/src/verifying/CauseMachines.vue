<script setup lang="ts">
import { computed, ref } from 'vue'

import { counted } from '@/lib/words'
import type { ProbeResult, Run, RunCause } from './useRuns'

/** Why a probe does not come out on some machines: the proof, the one next step, and which machines they are. */
const props = defineProps<{ run: Run; result: ProbeResult; cause: RunCause }>()
const open = ref(false)
const why = computed(() => ({
  name: 'why',
  query: {
    machine: props.cause.examples?.[0],
    what: props.result.what,
    expected: props.result.expected,
    person: props.result.user ?? undefined,
    browser: props.result.browser ?? undefined,
  },
}))
</script>

<template>
  <div class="cause">
    <div>
      <b>{{ counted(cause.devices, 'machine') }}</b> <span class="chip">{{ cause.code }}</span>
      {{ cause.detail }}
    </div>
    <div class="small">{{ cause.remedy }}</div>
    <div class="small">
      <template v-for="(name, place) in cause.examples" :key="name"
        ><template v-if="place">, </template
        ><RouterLink :to="{ name: 'device', params: { device: name } }">{{ name }}</RouterLink></template
      >
      <BButton
        v-if="cause.devices > (cause.examples?.length ?? 0) && run.has_devices"
        variant="link"
        size="sm"
        class="p-0 ms-2"
        :aria-expanded="open"
        @click="open = !open"
        >{{ open ? 'Fewer' : `All ${cause.devices.toLocaleString('en')}` }}</BButton
      >
      <RouterLink v-if="result.what && cause.examples?.length" :to="why" class="ms-2">Why?</RouterLink>
    </div>
    <MachinesOfCause v-if="open" :run="run.id" :result="result" :cause="cause.code" />
  </div>
</template>

<style scoped>
.cause {
  margin: 0.4rem 0 0 0.3rem;
  padding: 0.35rem 0.8rem;
  border-left: 2px solid var(--line);
}
</style>
