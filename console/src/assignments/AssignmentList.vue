<script setup lang="ts">
import { computed, ref } from 'vue'

import type { Assignment, Ruleset } from '@/api/client'
import { targetText } from '@/rulesets/kinds'
import { useAssignments, useRemoveAssignment, useSetState } from './useAssignments'

/** Where a ruleset is put: its assignments, each to be paused, put in force or removed; and a way to assign it. */
const props = defineProps<{ ruleset: string; kind: Ruleset['kind'] }>()
const { data } = useAssignments(() => ({ ruleset: props.ruleset }))
const setState = useSetState()
const remove = useRemoveAssignment()
const assigning = ref(false)
const edited = ref<Assignment>()
const own = computed(() => data.value ?? [])
const over = (one: Assignment) => Boolean(one.ends && new Date(one.ends) <= new Date())
const problem = computed(() => setState.error.value ?? remove.error.value)

function open(assignment?: Assignment) {
  edited.value = assignment
  assigning.value = true
}
function ask(assignment: Assignment) {
  remove.plan(assignment, { title: `remove ${assignment.key}` })
}
function turn(assignment: Assignment, state: Assignment['state']) {
  const title = state === 'active' ? `${assignment.key} in force` : `${assignment.key} paused`
  setState.plan({ assignment, state }, { title })
}
</script>

<template>
  <section class="panel flush" aria-labelledby="assigned">
    <div class="headline">
      <h2 id="assigned">Where it is assigned</h2>
      <BButton v-needs:author variant="light" @click="open()">Assign to groups…</BButton>
    </div>
    <p v-if="problem" class="wrong" role="alert"><Icon name="exclamation" /> {{ problem.message }}</p>
    <p v-if="!own.length" class="sub px-3">Nowhere yet, so it does nothing.</p>
    <BTableSimple v-else caption-top>
      <caption class="visually-hidden">
        Assignments of this ruleset
      </caption>
      <BThead>
        <BTr
          ><BTh>What it does, where and when</BTh><BTh>State</BTh><BTh>Machines</BTh
          ><BTh><span class="visually-hidden">Next step</span></BTh></BTr
        >
      </BThead>
      <BTbody>
        <BTr v-for="one in own" :key="one.key">
          <BTd>
            {{ one.sentence }}
            <div class="marks">
              <RouterLink
                v-for="target in one.to"
                :key="targetText(target)"
                :to="
                  typeof target === 'string'
                    ? { name: 'devices', query: { group: target } }
                    : { name: 'device', params: { device: target.device } }
                "
                class="small"
                >{{ targetText(target) }}</RouterLink
              >
              <Icon v-if="one.mandatory" name="nut" label="mandatory" />
              <Icon v-if="one.schedule" name="clock" :label="`during ${one.schedule}`" />
              <Icon v-if="one.people" name="person" label="for some people" />
              <span v-if="over(one)" class="small dim">ended</span>
            </div>
            <div v-if="one.reason || one.ticket" class="small dim">
              {{ [one.reason, one.ticket].filter(Boolean).join(' · ') }}
            </div>
            <HeldBackList :assignment="one" />
          </BTd>
          <BTd
            ><b v-if="one.state === 'active'">in force</b><span v-else class="dim">{{ one.state }}</span></BTd
          >
          <BTd>{{ one.devices }}</BTd>
          <BTd class="text-end text-nowrap">
            <span v-needs:author>
              <BButton variant="link" :aria-label="`Change ${one.key}`" @click="open(one)">Change</BButton>
              <BButton
                v-if="one.state === 'active'"
                variant="link"
                :aria-label="`Pause ${one.key}`"
                @click="turn(one, 'paused')"
                >Pause</BButton
              >
              <BButton
                v-else
                variant="link"
                :aria-label="`Put ${one.key} in force`"
                @click="turn(one, 'active')"
                >Put in force</BButton
              >
              <BButton variant="link" :aria-label="`Remove ${one.key}`" @click="ask(one)">Remove</BButton>
            </span>
          </BTd>
        </BTr>
      </BTbody>
    </BTableSimple>
    <AssignDialog v-model="assigning" :ruleset="ruleset" :kind="kind" :assignment="edited" />
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
.marks {
  display: flex;
  gap: 0.5rem;
  align-items: center;
}
.wrong {
  color: var(--block);
  padding: 0 1.1rem;
}
</style>
