<script setup lang="ts">
import { BButton, BTableSimple, BTbody, BTd, BTh, BThead, BTr } from 'bootstrap-vue-next'
import { computed, ref } from 'vue'

import { useAssignments, useRemoveAssignment, useSetState } from '../api/policy'
import { useSession } from '../api/session'
import AssignDialog from './AssignDialog.vue'
import Icon from './Icon.vue'

/** Where a ruleset is put: its assignments, each to be paused, put in force or removed; and a way to assign it. */
const props = defineProps<{ ruleset: string }>()
const { data } = useAssignments()
const { mayAuthor } = useSession()
const setState = useSetState()
const remove = useRemoveAssignment()
const assigning = ref(false)
const own = computed(() => (data.value ?? []).filter((one) => one.ruleset === props.ruleset))
const problem = computed(() => setState.error.value ?? remove.error.value)

function ask(assignment: (typeof own.value)[number]) {
  if (window.confirm(`Remove this assignment? ${assignment.sentence}`)) remove.mutate(assignment)
}
</script>

<template>
  <section class="panel flush" aria-labelledby="assigned">
    <div class="headline">
      <h2 id="assigned">Where it is assigned</h2>
      <BButton v-if="mayAuthor" variant="light" @click="assigning = true">Assign to groups…</BButton>
    </div>
    <p v-if="problem" class="wrong" role="alert"><Icon name="exclamation" /> {{ problem.message }}</p>
    <p v-if="!own.length" class="sub px-3">Nowhere yet, so it does nothing.</p>
    <BTableSimple v-else caption-top>
      <caption class="visually-hidden">
        Assignments of this ruleset
      </caption>
      <BThead>
        <BTr><BTh>Groups</BTh><BTh>State</BTh><BTh>Machines</BTh><BTh>Strength</BTh><BTh></BTh></BTr>
      </BThead>
      <BTbody>
        <BTr v-for="one in own" :key="one.key">
          <BTd>
            <template v-for="(group, place) in one.to" :key="group"
              ><template v-if="place">, </template
              ><RouterLink :to="{ name: 'devices', query: { group } }">{{ group }}</RouterLink></template
            >
            <div v-if="one.reason" class="small dim">{{ one.reason }}</div>
          </BTd>
          <BTd
            ><b v-if="one.state === 'active'">in force</b><span v-else class="dim">{{ one.state }}</span></BTd
          >
          <BTd>{{ one.devices }}</BTd>
          <BTd>
            <span v-if="one.mandatory"><Icon name="nut" /> mandatory</span>
            <span v-else-if="!one.action" class="dim">ordinary</span>
            <span v-if="one.action"> {{ one.action }} for all of it</span>
          </BTd>
          <BTd class="text-end text-nowrap">
            <template v-if="mayAuthor">
              <BButton
                v-if="one.state === 'active'"
                variant="link"
                :aria-label="`Pause ${one.key}`"
                @click="setState.mutate({ assignment: one, state: 'paused' })"
                >Pause</BButton
              >
              <BButton
                v-else
                variant="link"
                :aria-label="`Put ${one.key} in force`"
                @click="setState.mutate({ assignment: one, state: 'active' })"
                >Put in force</BButton
              >
              <BButton variant="link" :aria-label="`Remove ${one.key}`" @click="ask(one)">Remove</BButton>
            </template>
          </BTd>
        </BTr>
      </BTbody>
    </BTableSimple>
    <AssignDialog v-model="assigning" :ruleset="ruleset" />
  </section>
</template>

<style scoped>
.headline {
  display: flex;
  align-items: center;
  justify-content: space-between;
  padding: 0.7rem 1.1rem 0.4rem;
}
.headline h2 {
  margin: 0;
}
.wrong {
  color: var(--block);
  padding: 0 1.1rem;
}
</style>
