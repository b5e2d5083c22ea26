<script setup lang="ts">
import { ref } from 'vue'

import type { EnrolmentCode } from '@/api/client'
import { useDevices } from '@/devices/useDevices'
import { useEnrolmentCodes, useRevokeCode } from './useEnrolmentCodes'

const { data: codes, isPending, error, refetch } = useEnrolmentCodes()
const waiting = useDevices({ blocker: 'rejoin-waiting', limit: 50 })
const invited = useDevices({ lifecycle: 'invited', limit: 50 })
const revoke = useRevokeCode()
const making = ref(false)
const inviting = ref(false)

function takeBack(code: EnrolmentCode) {
  if (window.confirm(`Take back the code for ${code.device ?? code.name ?? 'any machine'}?`))
    revoke.mutate(code.id)
}
const day = (at: string) => new Date(at).toLocaleDateString()
</script>

<template>
  <div class="page">
    <FleetTabs />
    <PageHead title="Enrolment">
      <template #actions>
        <BButton v-needs:keeper variant="light" @click="inviting = true">Machines from a list…</BButton>
        <BButton v-needs:keeper variant="primary" @click="making = true"
          ><Icon name="plus" /> New code…</BButton
        >
      </template>
      <span>
        A machine joins with a code. The page for whoever sits at it:
        <a href="/join" target="_blank">/join</a>
      </span>
    </PageHead>
    <RejoinBox v-for="device in waiting.items.value" :key="device.id" :device="device" class="mt-3" />
    <div class="with-side">
      <section class="panel flush" aria-labelledby="codes">
        <h2 id="codes">Enrolment codes</h2>
        <StateBox
          :loading="isPending"
          :error="error"
          :empty="codes?.length === 0"
          :rows="4"
          @retry="refetch()"
        >
          <template #empty>
            <p><b>No code was made yet.</b></p>
            <p class="sub">Make one, and let the first machine join with it.</p>
          </template>
          <BTableSimple hover caption-top>
            <caption class="visually-hidden">
              Enrolment codes
            </caption>
            <BThead
              ><BTr
                ><BTh>For</BTh><BTh>State</BTh><BTh class="text-end">Uses left</BTh><BTh>Ends</BTh
                ><BTh>Made by</BTh><BTh><span class="visually-hidden">Next step</span></BTh></BTr
              ></BThead
            >
            <BTbody>
              <BTr v-for="code in codes" :key="code.id">
                <BTd>
                  {{ code.device ? `only ${code.device}` : (code.name ?? 'any machine') }}
                  <span v-for="(value, name) in code.labels" :key="name" class="chip"
                    >{{ name }}: {{ value }}</span
                  >
                </BTd>
                <BTd :class="{ dim: code.state !== 'good' }">{{ code.state }}</BTd>
                <BTd class="text-end">{{ code.uses_left }} of {{ code.uses }}</BTd>
                <BTd>{{ day(code.expires_at) }}</BTd>
                <BTd>{{ code.made_by }}, <RelativeTime :at="code.made_at" /></BTd>
                <BTd class="text-end">
                  <BButton
                    v-if="code.state === 'good'"
                    v-needs:keeper
                    variant="link"
                    :aria-label="`Take back the code for ${code.device ?? code.name ?? 'any machine'}`"
                    @click="takeBack(code)"
                    >Take back</BButton
                  >
                </BTd>
              </BTr>
            </BTbody>
          </BTableSimple>
        </StateBox>
      </section>
      <section class="panel" aria-labelledby="never">
        <h2 id="never">Known, and never joined</h2>
        <ul v-if="invited.items.value?.length" class="never">
          <li v-for="device in invited.items.value" :key="device.id">
            <MachineName :id="device.id" :hostname="device.hostname" />
            <div class="small dim">{{ device.facts.unit }}</div>
          </li>
        </ul>
        <p v-else class="sub mb-0">Every machine that is known has joined.</p>
      </section>
    </div>
    <CodeDialog v-model="making" />
    <InviteDialog v-model="inviting" />
  </div>
</template>

<style scoped>
.never {
  list-style: none;
  padding: 0;
  margin: 0;
}
.never li {
  padding: 0.25rem 0;
}
</style>
