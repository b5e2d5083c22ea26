<script setup lang="ts">
import { computed, ref } from 'vue'

import { useRulesets } from '@/rulesets/useRulesets'
import { routeOf } from '@/rulesets/kinds'
import { type AddressList, useAddressLists } from './useAddressLists'

/** Addresses on the web, written once, that several rulesets include. */
const { data: lists, isPending, error, refetch } = useAddressLists()
const { data: rulesets } = useRulesets()
const sought = ref('')
const shown = ref(false)
const edited = ref<AddressList>()
const listed = computed(() => {
  const text = sought.value.trim().toLowerCase()
  return (lists.value ?? []).filter((list) => !text || JSON.stringify(list).toLowerCase().includes(text))
})
const pageOf = (ruleset: string) => {
  const kind = rulesets.value?.find(({ key }) => key === ruleset)?.kind
  return kind && { name: routeOf(kind), params: { ruleset } }
}
function edit(list?: AddressList) {
  edited.value = list
  shown.value = true
}
</script>

<template>
  <div class="page">
    <ControlTabs />
    <PageHead title="Address lists">
      <template #actions>
        <BButton v-needs:author variant="light" @click="edit()"
          ><Icon name="plus" /> New address list</BButton
        >
      </template>
      <span
        >Written once, and included by rulesets of indicators and site lists, each with its own action.</span
      >
    </PageHead>
    <StateBox :loading="isPending" :error="error" :empty="!lists?.length" @retry="refetch()">
      <template #empty><p class="sub mb-0">There is no address list yet. Make the first one.</p></template>
      <section class="panel flush mt-3" aria-label="Address lists">
        <BFormInput
          v-model="sought"
          type="search"
          class="seek"
          placeholder="Find a list or an address"
          aria-label="Find a list or an address"
        />
        <BTableSimple caption-top>
          <caption class="visually-hidden">
            Address lists
          </caption>
          <BThead>
            <BTr
              ><BTh>Address list</BTh><BTh class="text-end">Addresses</BTh><BTh>What it has</BTh
              ><BTh>Included by</BTh><BTh><span class="visually-hidden">Next step</span></BTh></BTr
            >
          </BThead>
          <BTbody>
            <BTr v-for="one in listed" :key="one.key">
              <BTd
                ><b>{{ one.name }}</b>
                <div class="small dim">{{ one.key }}</div>
                <div v-if="one.note" class="small dim">{{ one.note }}</div></BTd
              >
              <BTd class="text-end">{{ (one.addresses?.length ?? 0).toLocaleString() }}</BTd>
              <BTd class="has">{{ one.sentence }}</BTd>
              <BTd>
                <template v-for="ruleset in one.rulesets" :key="ruleset">
                  <RouterLink v-if="pageOf(ruleset)" :to="pageOf(ruleset)!" class="ruleset">{{
                    ruleset
                  }}</RouterLink>
                </template>
                <span v-if="!one.rulesets?.length" class="dim">nothing yet</span>
              </BTd>
              <BTd class="text-end"
                ><BButton v-needs:author variant="link" :aria-label="`Edit ${one.key}`" @click="edit(one)"
                  >Edit</BButton
                ></BTd
              >
            </BTr>
          </BTbody>
        </BTableSimple>
      </section>
    </StateBox>
    <AddressListDialog v-model="shown" :list="edited" />
  </div>
</template>

<style scoped>
.ruleset {
  display: block;
  min-height: 24px;
}
.has {
  overflow-wrap: anywhere;
}
</style>
