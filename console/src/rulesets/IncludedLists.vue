<script setup lang="ts">
import { computed, ref } from 'vue'

import { useAddressLists } from '@/address-lists/useAddressLists'
import { useSession } from '@/access/useSession'
import type { Action, RulesetState, Schemas } from '@/api/client'
import { counted } from '@/lib/words'

/** The address lists that a ruleset includes, each with what is done about its addresses. */
defineProps<{ actions: Action[]; included?: RulesetState['included'] }>()
type Include = Schemas['Include']
const includes = defineModel<Include[]>({ required: true })
const { mayAuthor } = useSession()
const { data: lists } = useAddressLists()
const key = ref('')
const action = ref<Action>('block')
const choices = computed(() => {
  const taken = new Set(includes.value.map(({ address_list }) => address_list))
  return (lists.value ?? [])
    .filter((list) => !taken.has(list.key))
    .map((list) => ({
      value: list.key,
      text: `${list.name}, ${counted(list.addresses?.length ?? 0, 'address', 'addresses')}`,
    }))
})
const sizeOf = (own: string) => lists.value?.find((list) => list.key === own)?.addresses?.length ?? 0
function include() {
  includes.value = [...includes.value, { address_list: key.value, action: action.value }]
  key.value = ''
}
const change = (one: Include, changed: Partial<Include>) => {
  includes.value = includes.value.map((other) => (other === one ? { ...one, ...changed } : other))
}
const leaveOut = (one: Include) => {
  includes.value = includes.value.filter((other) => other !== one)
}
</script>

<template>
  <section class="panel flush" aria-label="Address lists">
    <div class="head">
      <h2>Address lists</h2>
      <RouterLink :to="{ name: 'address-lists' }" class="small">All address lists</RouterLink>
    </div>
    <div v-for="one in includes" :key="one.address_list" class="row-line">
      <BFormSelect
        :model-value="one.action"
        class="short"
        :aria-label="`What to do about ${one.address_list}`"
        :options="actions"
        :disabled="!mayAuthor"
        @update:model-value="change(one, { action: $event as Action })"
      />
      <span
        >{{ counted(sizeOf(one.address_list), 'address', 'addresses') }} of <b>{{ one.address_list }}</b><span
          v-if="(included?.[one.address_list] ?? sizeOf(one.address_list)) < sizeOf(one.address_list)"
          class="dim"
          >,
          {{
            counted(
              sizeOf(one.address_list) - (included?.[one.address_list] ?? 0),
              'of them is',
              'of them are',
            )
          }}
          named before</span
        ></span
      >
      <MomentText v-if="one.valid_until" :at="one.valid_until" class="small dim" />
      <BButton
        v-needs:author
        variant="link"
        class="ms-auto"
        :aria-label="`Leave out ${one.address_list}`"
        @click="leaveOut(one)"
        >Leave out</BButton
      >
    </div>
    <form v-if="choices.length" v-needs:author class="row-line" @submit.prevent="include">
      <BFormSelect
        v-model="key"
        class="which"
        aria-label="Address list"
        :options="[{ value: '', text: 'Include an address list' }, ...choices]"
      />
      <BFormSelect
        v-model="action"
        class="short"
        aria-label="What to do about its addresses"
        :options="actions"
      />
      <BButton type="submit" variant="light" :disabled="!key"><Icon name="plus" /> Include</BButton>
    </form>
    <p v-else-if="!includes.length" class="sub small px-3 pb-3 mb-0">There is no address list to include.</p>
  </section>
</template>

<style scoped>
.head {
  display: flex;
  align-items: baseline;
  gap: 1rem;
  padding: 0.9rem 1.1rem 0.3rem;
}
.head h2 {
  margin: 0;
}
.row-line {
  display: flex;
  flex-wrap: wrap;
  align-items: center;
  gap: 0.6rem;
  padding: 0.45rem 1.1rem;
}
.short {
  width: auto;
}
.which {
  flex: 0 1 20rem;
}
</style>
