<script setup lang="ts">
import { computed } from 'vue'
import { useRoute, useRouter } from 'vue-router'

import { useRulesets } from '../api/policy'
import KeyedList from '../components/KeyedList.vue'
import KeyedPage from '../components/KeyedPage.vue'
import RuleListEditor from '../components/RuleListEditor.vue'
import RulesetEditor from '../components/RulesetEditor.vue'
import { KINDS } from '../composables/kinds'

/** Rulesets of one kind: web categories on their taxonomy, the others as lists of rules. */
const NEW = '+new'
const route = useRoute()
const router = useRouter()
const { data: rulesets, isPending, error, refetch } = useRulesets()

const name = computed(() => String(route.name))
const shape = computed(() => KINDS[name.value])
const own = computed(() =>
  (rulesets.value ?? []).filter(({ kind }) => kind === (shape.value?.kind ?? 'category')),
)
const chosenKey = computed(() => String(route.params.ruleset || own.value[0]?.key || ''))
const isNew = computed(() => route.params.ruleset === NEW)
const chosen = computed(() => own.value.find(({ key }) => key === chosenKey.value))
const open = (key: string) => router.push({ name: name.value, params: { ruleset: key } })
</script>

<template>
  <KeyedPage
    :title="shape?.title ?? 'Web categories'"
    noun="ruleset"
    :loading="isPending"
    :error="error"
    @make="open(NEW)"
    @retry="refetch()"
  >
    <template #about>
      <span>{{
        shape?.about ?? 'A ruleset says what is allowed, warned of or blocked; assigning it says where.'
      }}</span>
    </template>
    <template #list>
      <KeyedList
        :items="own"
        label="Rulesets"
        :route="name"
        param="ruleset"
        :current="isNew ? undefined : chosenKey"
        :small="(one) => (one.assignments.length ? one.key : `${one.key}, not assigned`)"
        empty="There is no ruleset yet. Make the first one."
      />
    </template>
    <template v-if="shape">
      <RuleListEditor v-if="isNew" :key="`${name} +new`" :shape="shape" @saved="open" />
      <RuleListEditor v-else-if="chosen" :key="chosen.key" :shape="shape" :ruleset="chosen" @saved="open" />
    </template>
    <template v-else>
      <RulesetEditor v-if="isNew" key="+new" @saved="open" />
      <RulesetEditor v-else-if="chosen" :key="chosen.key" :ruleset="chosen" @saved="open" />
    </template>
    <div v-if="!isNew && !chosen" class="panel">
      <p v-if="chosenKey" class="sub mb-0">There is no ruleset “{{ chosenKey }}” of this kind.</p>
      <p v-else class="sub mb-0">
        {{ shape?.empty ?? 'Make a ruleset to block, warn of or allow web categories.' }}
      </p>
    </div>
  </KeyedPage>
</template>
