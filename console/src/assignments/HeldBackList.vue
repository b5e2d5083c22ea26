<script setup lang="ts">
import { computed } from 'vue'

import type { Assignment } from '@/api/client'
import { counted } from '@/lib/words'
import { useAccept } from './useAssignments'

/** What an assignment's sets took in by themselves: when it came, whether it is only logged yet, and how to accept it. */
const props = defineProps<{ assignment: Assignment }>()
const MOST = 20
const accept = useAccept()
const held = computed(() => props.assignment.held_back ?? [])
type Held = (typeof held.value)[number]
function take(some: Held[]) {
  const what = some.length === 1 ? some[0]!.name : counted(some.length, 'version')
  const versions = some.map(({ program }) => program)
  accept.plan({ key: props.assignment.key, versions }, { title: `${what} stopped at once` })
}
</script>

<template>
  <details v-if="held.length" open class="small mt-1">
    <summary>{{ counted(held.length, 'version') }} came later</summary>
    <ul class="list-unstyled mb-0">
      <li v-for="one in held.slice(0, MOST)" :key="one.name">
        <b>{{ one.name }}</b> came <RelativeTime :at="one.at" />,
        <template v-if="one.over">and is stopped, but on servers</template
        ><template v-else>and is only logged until <MomentText :at="one.until" /></template>
        <BButton
          v-needs:author
          variant="link"
          size="sm"
          :aria-label="`Accept ${one.name}`"
          @click="take([one])"
          >Accept</BButton
        >
      </li>
    </ul>
    <p v-if="held.length > MOST" class="dim mb-0">and {{ counted(held.length - MOST, 'other') }}</p>
    <BButton v-if="held.length > 1" v-needs:author variant="link" size="sm" @click="take(held)"
      >Accept all {{ held.length }}</BButton
    >
    <span v-if="accept.error.value" class="wrong" role="alert">{{ accept.error.value.message }}</span>
  </details>
</template>

<style scoped>
.wrong {
  color: var(--block);
}
</style>
