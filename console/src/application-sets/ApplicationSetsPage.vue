<script setup lang="ts">
import { computed } from 'vue'
import { useRoute, useRouter } from 'vue-router'

import { useApplicationSets } from './useApplicationSets'

/** Application sets: the programs that startup rules name. */
const NEW = '+new'
const route = useRoute()
const router = useRouter()
const { data: sets, isPending, error, refetch } = useApplicationSets()
const key = computed(() => String(route.params.set || sets.value?.[0]?.key || ''))
const isNew = computed(() => route.params.set === NEW)
const chosen = computed(() => sets.value?.find((one) => one.key === key.value))
const open = (set: string) => router.push({ name: 'application-sets', params: { set } })
</script>

<template>
  <KeyedPage
    title="Applications"
    noun="application set"
    :loading="isPending"
    :error="error"
    @make="open(NEW)"
    @retry="refetch()"
  >
    <template #about
      ><span>Named sets of programs, for startup rules to allow, warn of or block.</span></template
    >
    <template #list>
      <KeyedList
        :items="sets ?? []"
        label="Application sets"
        route="application-sets"
        param="set"
        :current="isNew ? undefined : key"
        :small="(one) => (one.following ? 'following' : 'frozen')"
        empty="There is no application set yet. Make the first one."
      />
    </template>
    <ApplicationSetEditor v-if="isNew" key="+new" @saved="open" />
    <ApplicationSetEditor v-else-if="chosen" :key="chosen.key" :set="chosen" @saved="open" />
    <div v-else class="panel">
      <p class="sub mb-0">
        {{
          key
            ? `There is no application set “${key}”.`
            : 'Make a set of programs, then name it in a startup ruleset.'
        }}
      </p>
    </div>
  </KeyedPage>
</template>
