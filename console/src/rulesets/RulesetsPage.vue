<script setup lang="ts">
import { computed, ref } from 'vue'
import { useRoute, useRouter } from 'vue-router'

import type { Ruleset } from '@/api/client'
import { counted } from '@/lib/words'
import { KINDS } from './kinds'
import { rulesets, useRuleset, useRulesets } from './useRulesets'

/** Rulesets of one kind: web categories on their taxonomy, the others as lists of rules. */
const NEW = '+new'
const ALL = '+all'
/** A longer list is searched and edited by the service. */
const MOST_EDITED = 1_000
const route = useRoute()
const router = useRouter()
const { data: listedAll, isPending, error, refetch } = useRulesets()

const name = computed(() => String(route.name))
const shape = computed(() => KINDS[name.value])
const ofIndicators = computed(() => shape.value?.kind === 'indicator')
const own = computed(() =>
  (listedAll.value ?? []).filter(({ kind }) => kind === (shape.value?.kind ?? 'category')),
)
const chosenKey = computed(() => String(route.params.ruleset || own.value[0]?.key || ''))
const isNew = computed(() => route.params.ruleset === NEW)
const isAll = computed(() => route.params.ruleset === ALL)
const listed = computed(() => own.value.find(({ key }) => key === chosenKey.value))
const ownRules = ({ rule_count, included }: Ruleset) =>
  rule_count - Object.values(included ?? {}).reduce((sum, number) => sum + number, 0)
const isLong = computed(() =>
  Boolean(listed.value && (listed.value.feed || ownRules(listed.value) > MOST_EDITED)),
)
const {
  data: chosen,
  isPending: isReading,
  error: unread,
  refetch: readAgain,
} = useRuleset(
  chosenKey,
  computed(() => Boolean(listed.value) && !isLong.value),
)
const copying = rulesets.useCreate()
/** The same rules under another key, assigned nowhere. */
function copy() {
  const { kind, ground, rules, includes } = chosen.value!
  const key = window.prompt('Key of the copy', `${chosen.value!.key.slice(0, 62)}-2`)?.trim()
  if (key)
    copying.plan(
      { key, name: null, kind, ground, rules, includes },
      { title: `new ruleset ${key}`, onRead: () => open(key) },
    )
}
const importing = ref(false)
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
      <div>
        <RouterLink
          v-if="ofIndicators"
          :to="{ name: 'indicators', params: { ruleset: ALL } }"
          class="entry panel all"
          :class="{ on: isAll }"
          :aria-current="isAll ? 'true' : undefined"
          >All indicators</RouterLink
        >
        <KeyedList
          :items="own"
          label="Rulesets"
          :route="name"
          param="ruleset"
          :current="isNew || isAll ? undefined : chosenKey"
          :small="
            (one) =>
              `${counted(one.rule_count, 'rule')}${one.feed ? ' from a feed' : ''}${one.ground ? `, ${one.ground}` : ''}${one.assignments?.length ? '' : ', not assigned'}`
          "
          empty="There is no ruleset yet. Make the first one."
        />
      </div>
    </template>
    <div v-if="isAll" class="editor">
      <CapacityBar class="mt-0" />
      <IndicatorList />
    </div>
    <RuleListEditor v-else-if="isNew && shape" :key="`${name} +new`" :shape="shape" @saved="open" />
    <RulesetEditor v-else-if="isNew" key="+new" @saved="open" />
    <div v-else-if="listed && isLong" :key="listed.key" class="editor">
      <section class="panel" aria-label="Ruleset">
        <div class="top">
          <h2 class="mb-0">{{ listed.name }}</h2>
          <code class="dim">{{ listed.key }}</code>
        </div>
        <p class="sentence">{{ listed.sentence }}</p>
        <p v-if="listed.feed" class="small dim mb-0">
          Brought in by the feed
          <RouterLink :to="{ name: 'feeds', params: { feed: listed.feed } }">{{ listed.feed }}</RouterLink>,
          which alone changes it.
        </p>
        <p v-else class="small dim mb-0">
          A long list: what is changed here is changed at once, after its preview.
        </p>
      </section>
      <AssignmentList :ruleset="listed.key" :kind="listed.kind" />
      <IndicatorList :ruleset="listed.key" :fed="Boolean(listed.feed)" />
    </div>
    <StateBox v-else-if="listed" :loading="isReading" :error="unread" class="panel-less" @retry="readAgain()">
      <RuleListEditor
        v-if="chosen && shape"
        :key="chosen.key"
        :shape="shape"
        :ruleset="chosen"
        @saved="open"
      />
      <RulesetEditor v-else-if="chosen" :key="`category ${chosen.key}`" :ruleset="chosen" @saved="open" />
    </StateBox>
    <div v-else class="panel">
      <p v-if="chosenKey" class="sub mb-0">There is no ruleset “{{ chosenKey }}” of this kind.</p>
      <p v-else class="sub mb-0">
        {{ shape?.empty ?? 'Make a ruleset to block, warn of or allow web categories.' }}
      </p>
    </div>
    <template v-if="listed && !isNew && !isAll" #actions>
      <span v-if="copying.error.value" class="wrong" role="alert">{{ copying.error.value.message }}</span>
      <BButton v-if="chosen && !isLong && !listed.feed" v-needs:author variant="light" @click="copy"
        ><Icon name="copy" /> Copy…</BButton
      >
      <a
        v-if="shape"
        class="btn btn-light"
        :href="`/api/v1/rulesets/${listed.key}/rules.csv`"
        :download="`${listed.key}.csv`"
        >CSV</a
      >
      <a
        v-if="ofIndicators"
        class="btn btn-light"
        :href="`/api/v1/rulesets/${listed.key}/rules.stix`"
        :download="`${listed.key}.json`"
        >STIX</a
      >
      <BButton v-if="shape && !listed.feed" v-needs:author variant="light" @click="importing = true"
        >From a file…</BButton
      >
      <ImportDialog v-if="shape" v-model="importing" :ruleset="listed.key" />
    </template>
  </KeyedPage>
</template>

<style scoped>
.wrong {
  color: var(--block);
  align-self: center;
}
.all {
  display: block;
  padding: 0.45rem 0.9rem;
  margin-bottom: 0.6rem;
  font-weight: 550;
}
.top {
  display: flex;
  gap: 0.6rem;
  align-items: baseline;
}
</style>
