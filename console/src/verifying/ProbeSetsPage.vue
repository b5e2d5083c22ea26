<script setup lang="ts">
import { computed, ref } from 'vue'
import { useRoute, useRouter } from 'vue-router'

import { useGroups } from '@/groups/useGroups'
import { counted } from '@/lib/words'
import { targetText } from '@/rulesets/kinds'
import DrawUpDialog from './DrawUpDialog.vue'
import ProbeSetEditor from './ProbeSetEditor.vue'
import { type SavedProbeSet, useProbeSets } from './useDrawUp'

/** The probe sets: what should be stopped, what must go on working, and where. */
const NEW = '+new'
const route = useRoute()
const router = useRouter()
const { data: sets, isPending, error, refetch } = useProbeSets()
// what an editor reads as a group must be known when it begins
const { isPending: groupsPending } = useGroups()
const drawing = ref(false)
const key = computed(() => String(route.params.object || sets.value?.[0]?.key || ''))
const isNew = computed(() => route.params.object === NEW)
const chosen = computed(() => sets.value?.find((one) => one.key === key.value))
const open = (object: string) => router.push({ name: 'probe-sets', params: { object } })
const small = (one: SavedProbeSet) =>
  [counted(one.probes.length, 'probe'), one.to.map(targetText).join(', ')].filter(Boolean).join(', ')
</script>

<template>
  <KeyedPage
    title="Probe sets"
    noun="probe set"
    :loading="isPending || groupsPending"
    :error="error"
    @make="open(NEW)"
    @retry="refetch()"
  >
    <template #tabs><VerifyTabs /></template>
    <template #about
      ><span
        >What should be stopped, and what must go on working; a run tries it on every machine.</span
      ></template
    >
    <template #actions>
      <BButton v-needs:author variant="light" @click="drawing = true">Draw one up…</BButton>
    </template>
    <template #list>
      <KeyedList
        :items="sets ?? []"
        label="Probe sets"
        route="probe-sets"
        param="object"
        :current="isNew ? undefined : key"
        :small="small"
        empty="There is no probe set yet. Draw the first one up."
      />
    </template>
    <ProbeSetEditor v-if="isNew" key="+new" @saved="open" />
    <ProbeSetEditor v-else-if="chosen" :key="chosen.key" :set="chosen" @saved="open" />
    <div v-else class="panel">
      <p class="sub mb-0">
        {{ key ? `There is no probe set “${key}”.` : 'Draw one up from a ruleset, or make one.' }}
      </p>
    </div>
  </KeyedPage>
  <DrawUpDialog v-model="drawing" @saved="open" />
</template>
