<script setup lang="ts">
import { BButton, BFormInput } from 'bootstrap-vue-next'
import { computed, ref } from 'vue'
import { useRoute, useRouter } from 'vue-router'

import { useRulesets } from '../api/policy'
import { useSession } from '../api/session'
import Icon from '../components/Icon.vue'
import PageHead from '../components/PageHead.vue'
import RulesetEditor from '../components/RulesetEditor.vue'
import StateBox from '../components/StateBox.vue'

const NEW = '+new'
const route = useRoute()
const router = useRouter()
const { data: rulesets, isPending, error, refetch } = useRulesets()
const { mayAuthor } = useSession()
const sought = ref('')

const chosenKey = computed(() => String(route.params.ruleset || rulesets.value?.[0]?.key || ''))
const chosen = computed(() => rulesets.value?.find(({ key }) => key === chosenKey.value))
const isNew = computed(() => route.params.ruleset === NEW)
const listed = computed(() => {
  const text = sought.value.trim().toLowerCase()
  return (rulesets.value ?? []).filter(
    ({ key, name, sentence }) => !text || `${key} ${name} ${sentence}`.toLowerCase().includes(text),
  )
})
const open = (key: string) => router.push({ name: 'categories', params: { ruleset: key } })
</script>

<template>
  <div class="page">
    <PageHead title="Web categories">
      <template #actions>
        <BButton v-if="mayAuthor" variant="light" @click="open(NEW)"
          ><Icon name="plus" /> New ruleset</BButton
        >
      </template>
      <span>A ruleset says what is allowed, warned of or blocked; assigning it says where.</span>
    </PageHead>
    <StateBox :loading="isPending" :error="error" @retry="refetch()">
      <div class="columns">
        <nav class="panel flush list" aria-label="Rulesets">
          <BFormInput
            v-model="sought"
            type="search"
            class="seek"
            placeholder="Find a ruleset"
            aria-label="Find a ruleset"
          />
          <RouterLink
            v-for="one in listed"
            :key="one.key"
            :to="{ name: 'categories', params: { ruleset: one.key } }"
            class="entry"
            :class="{ on: !isNew && one.key === chosenKey }"
            :aria-current="!isNew && one.key === chosenKey ? 'true' : undefined"
          >
            <span class="name">{{ one.name }}</span>
            <span class="small dim">{{ one.assignments.length ? one.key : `${one.key}, not assigned` }}</span>
          </RouterLink>
          <p v-if="!listed.length" class="sub p-3 mb-0">
            {{ rulesets?.length ? 'No ruleset matches.' : 'There is no ruleset yet. Make the first one.' }}
          </p>
        </nav>
        <RulesetEditor v-if="isNew" key="+new" @saved="open" />
        <RulesetEditor v-else-if="chosen" :key="chosen.key" :ruleset="chosen" @saved="open" />
        <div v-else class="panel">
          <StateBox empty>
            <template #empty>
              <p v-if="chosenKey" class="sub">There is no ruleset “{{ chosenKey }}”.</p>
              <p v-else class="sub">Make a ruleset to block, warn of or allow web categories.</p>
            </template>
          </StateBox>
        </div>
      </div>
    </StateBox>
  </div>
</template>

<style scoped>
.columns {
  display: grid;
  grid-template-columns: 230px minmax(0, 1fr);
  gap: 1.25rem;
  margin-top: 1rem;
  align-items: start;
}
.seek {
  border: 0;
  border-bottom: 1px solid var(--line);
  border-radius: 0;
}
.entry {
  display: block;
  padding: 0.4rem 0.9rem;
  border-bottom: 1px solid var(--line-2);
  color: var(--ink);
  text-decoration: none;
}
.entry:hover {
  background: var(--wash);
}
.entry.on {
  background: var(--brass-wash);
  box-shadow: inset 3px 0 0 var(--brass-2);
}
.entry:focus-visible {
  outline-offset: -2px;
}
.name {
  display: block;
  font-weight: 550;
}
</style>
