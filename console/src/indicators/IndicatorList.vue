<script setup lang="ts">
import { refDebounced } from '@vueuse/core'
import { useRouteQuery } from '@vueuse/router'
import { computed, ref, watch } from 'vue'

import { actionValues } from '@/api/schema'
import { useSession } from '@/access/useSession'
import { broughtBy, counted, wordsOf } from '@/lib/words'
import { type IndicatorFilters, useEditRules, useIndicators } from './useIndicators'

/** Rules by the thousand, searched and paged by the service: of one ruleset, or of all rulesets of indicators. */
const props = defineProps<{ ruleset?: string; fed?: boolean }>()
const { mayAuthor } = useSession()
const find = useRouteQuery<string>('find', '')
const origin = useRouteQuery<string>('origin', '')
const action = useRouteQuery<string>('action', '')
const ended = useRouteQuery<string>('ended', '')
const sought = refDebounced(find, 200)
const filters = computed(
  () =>
    ({
      q: sought.value || undefined,
      ruleset: props.ruleset,
      origin: origin.value || undefined,
      action: action.value || undefined,
      ended: ended.value === '' ? undefined : ended.value === 'yes',
      limit: 100,
    }) as IndicatorFilters,
)
const rules = useIndicators(filters)
const edit = useEditRules()
const chosen = ref<string[]>([])
watch([filters, rules.total], () => (chosen.value = []))
/** Only what is written by hand, in one ruleset, is edited here. */
/** Whether its rules are written here, and not brought by a feed. */
const isOwn = computed(() => props.ruleset !== undefined && !props.fed)
const mayEdit = computed(() => mayAuthor.value && isOwn.value)
function takeOut() {
  const remove = chosen.value
  edit.plan(
    { ruleset: props.ruleset!, body: { put: [], remove } },
    { title: `${remove.length} rules out of ${props.ruleset}`, onSuccess: () => (chosen.value = []) },
  )
}
const kind = ref('host')
const value = ref('')
const does = ref('block')
function add() {
  const rule = { [kind.value]: value.value.trim(), action: does.value }
  edit.plan(
    { ruleset: props.ruleset!, body: { put: [rule as never], remove: [] } },
    { title: `${kind.value} ${value.value} into ${props.ruleset}`, onSuccess: () => (value.value = '') },
  )
}
</script>

<template>
  <section class="panel flush" aria-label="Indicators">
    <form v-if="isOwn" v-needs:author class="tools" @submit.prevent="add">
      <BFormSelect
        v-model="kind"
        aria-label="What it names"
        :options="['host', 'url', 'address']"
        class="short"
      />
      <BFormInput
        v-model="value"
        class="mono"
        aria-label="Which"
        placeholder="parcel-refund.example"
        required
      />
      <BFormSelect v-model="does" aria-label="Action" class="short" :options="wordsOf(actionValues)" />
      <BButton type="submit" variant="light">Add rule…</BButton>
    </form>
    <div class="tools">
      <BFormInput
        v-model="find"
        type="search"
        placeholder="Find an indicator"
        aria-label="Find an indicator"
      />
      <BFormSelect
        v-if="!ruleset"
        v-model="origin"
        class="short"
        aria-label="Origin"
        :options="[
          { value: '', text: 'any origin' },
          { value: 'hand', text: 'by hand' },
          { value: 'feed', text: 'from feeds' },
        ]"
      />
      <BFormSelect
        v-model="action"
        class="short"
        aria-label="Action to find"
        :options="[{ value: '', text: 'any action' }, 'block', 'warn', 'allow', 'log']"
      />
      <BFormSelect
        v-model="ended"
        class="short"
        aria-label="Ended or not"
        :options="[
          { value: '', text: 'ended or not' },
          { value: 'no', text: 'not ended' },
          { value: 'yes', text: 'ended' },
        ]"
      />
      <span class="dim small text-nowrap" role="status">{{
        rules.total.value === undefined ? '…' : counted(rules.total.value, 'rule')
      }}</span>
      <BButton v-if="chosen.length" variant="light" @click="takeOut">Take {{ chosen.length }} out…</BButton>
    </div>
    <p v-if="edit.error.value" class="wrong" role="alert">{{ edit.error.value.message }}</p>
    <StateBox
      :loading="rules.isPending.value"
      :error="rules.error.value"
      :empty="rules.total.value === 0"
      @retry="rules.refetch()"
    >
      <template #empty><p class="sub mb-0">No indicator matches.</p></template>
      <BTableSimple caption-top>
        <caption class="visually-hidden">
          Indicators
        </caption>
        <BThead
          ><BTr
            ><BTh v-if="mayEdit"><span class="visually-hidden">Choose</span></BTh
            ><BTh>Does</BTh><BTh>Names</BTh><BTh>Called</BTh><BTh v-if="!ruleset">Ruleset</BTh
            ><BTh>Origin</BTh><BTh>Until</BTh></BTr
          ></BThead
        >
        <BTbody>
          <BTr
            v-for="item in rules.items.value"
            :key="`${item.ruleset}/${item.selector}`"
            :class="{ ended: item.ended }"
          >
            <BTd v-if="mayEdit"
              ><BFormCheckbox
                v-if="!item.address_list"
                v-model="chosen"
                :value="item.selector"
                :aria-label="`Choose ${item.selector}`"
            /></BTd>
            <BTd><ActionMark :action="item.rule.action" /></BTd>
            <BTd
              ><code class="selector">{{ item.selector }}</code></BTd
            >
            <BTd
              ><span :title="item.rule.note ?? undefined">{{ item.rule.name }}</span></BTd
            >
            <BTd v-if="!ruleset" class="mixed"
              ><RouterLink
                class="text-nowrap"
                :to="{ name: 'indicators', params: { ruleset: item.ruleset } }"
                >{{ item.ruleset }}</RouterLink
              ><span v-if="!item.assigned" class="small dim">, not assigned</span></BTd
            >
            <BTd class="sub text-nowrap">{{ broughtBy(item) }}</BTd>
            <BTd class="sub text-nowrap"
              ><MomentText :at="item.rule.valid_until" /><template v-if="item.ended"> ended</template></BTd
            >
          </BTr>
        </BTbody>
      </BTableSimple>
      <div v-if="rules.hasNextPage.value" class="text-center p-3">
        <BButton variant="light" :disabled="rules.isFetchingNextPage.value" @click="rules.fetchNextPage()"
          >Show 100 more</BButton
        >
      </div>
    </StateBox>
  </section>
</template>

<style scoped>
.tools {
  display: flex;
  align-items: center;
  gap: 0.6rem;
  padding: 0.6rem 1.1rem;
  border-bottom: 1px solid var(--line);
}
.short {
  width: auto;
}
.selector {
  overflow-wrap: anywhere;
}
.ended {
  color: var(--ink-3);
}
.wrong {
  color: var(--block);
  padding: 0.5rem 1.1rem 0;
  margin: 0;
}
</style>
