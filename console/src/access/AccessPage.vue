<script setup lang="ts">
import { computed, ref } from 'vue'

import {
  type SessionState,
  type Token,
  useEndSession,
  useEndToken,
  useSessions,
  useTokens,
} from './useAccess'
import { useSession } from './useSession'

const { mayKeep } = useSession()
const wanted = ref(false)
const everybody = computed(() => mayKeep.value && wanted.value)
const tokens = useTokens(everybody)
const sessions = useSessions(everybody)
const endToken = useEndToken()
const endSession = useEndSession()
const making = ref(false)

const whose = (used: Token | SessionState) => (everybody.value ? `${used.administrator}’s ` : '')
function endTheToken(token: Token) {
  if (window.confirm(`End ${whose(token)}token “${token.label}”, with those that it made?`))
    endToken.mutate(token.id)
}
function endTheSession(session: SessionState) {
  if (window.confirm(`End ${whose(session) || 'this '}session? Whoever uses it signs in again.`))
    endSession.mutate(session.id)
}
const day = (at: string) => new Date(at).toLocaleDateString()
const hour = (at: string) => new Date(at).toLocaleString([], { dateStyle: 'short', timeStyle: 'short' })
const problem = computed(() => endToken.error.value ?? endSession.error.value)
</script>

<template>
  <div class="page">
    <SettingsTabs />
    <PageHead title="Sessions and tokens">
      <template #actions>
        <BFormCheckbox v-model="wanted" v-needs:keeper switch class="align-self-center mb-0"
          >Everybody’s</BFormCheckbox
        >
        <BButton variant="light" @click="making = true"><Icon name="plus" /> New token…</BButton>
      </template>
      <span>By what you are known here. Each has an end, and can be ended before.</span>
    </PageHead>
    <p v-if="problem" class="wrong" role="alert"><Icon name="exclamation" /> {{ problem.message }}</p>
    <section class="panel flush mt-3" aria-labelledby="tokens">
      <h2 id="tokens">API tokens</h2>
      <StateBox
        :loading="tokens.isPending.value"
        :error="tokens.error.value"
        :empty="tokens.data.value?.length === 0"
        :rows="3"
        @retry="tokens.refetch()"
      >
        <template #empty><p class="sub">No program is known here by a token.</p></template>
        <BTableSimple hover caption-top>
          <caption class="visually-hidden">
            API tokens
          </caption>
          <BThead
            ><BTr
              ><BTh>For</BTh><BTh v-if="everybody">Of</BTh><BTh>Role</BTh><BTh>Made</BTh><BTh>Ends</BTh
              ><BTh>Last used</BTh><BTh><span class="visually-hidden">Next step</span></BTh></BTr
            ></BThead
          >
          <BTbody>
            <BTr v-for="token in tokens.data.value" :key="token.id">
              <BTd>{{ token.label }}</BTd>
              <BTd v-if="everybody">{{ token.administrator }}</BTd>
              <BTd>{{ token.role }}</BTd>
              <BTd><RelativeTime v-if="token.made_at" :at="token.made_at" /></BTd>
              <BTd>{{ day(token.expires_at) }}</BTd>
              <BTd><LastUsed :at="token.last_used" :from="token.last_from" /></BTd>
              <BTd class="text-end"
                ><BButton variant="link" :aria-label="`End token ${token.label}`" @click="endTheToken(token)"
                  >End</BButton
                ></BTd
              >
            </BTr>
          </BTbody>
        </BTableSimple>
      </StateBox>
    </section>
    <section class="panel flush mt-3" aria-labelledby="sessions">
      <h2 id="sessions">Browser sessions</h2>
      <StateBox
        :loading="sessions.isPending.value"
        :error="sessions.error.value"
        :rows="3"
        @retry="sessions.refetch()"
      >
        <BTableSimple hover caption-top>
          <caption class="visually-hidden">
            Browser sessions
          </caption>
          <BThead
            ><BTr
              ><BTh>Of</BTh><BTh>Role</BTh><BTh>Signed in</BTh><BTh>Ends</BTh><BTh>Last used</BTh
              ><BTh><span class="visually-hidden">Next step</span></BTh></BTr
            ></BThead
          >
          <BTbody>
            <BTr v-for="session in sessions.data.value" :key="session.id">
              <BTd>{{ session.administrator }}</BTd>
              <BTd>{{ session.role }}</BTd>
              <BTd><RelativeTime v-if="session.made_at" :at="session.made_at" /></BTd>
              <BTd>{{ hour(session.expires_at) }}</BTd>
              <BTd><LastUsed :at="session.last_used" :from="session.last_from" /></BTd>
              <BTd class="text-end"
                ><BButton
                  variant="link"
                  :aria-label="`End session of ${session.administrator}`"
                  @click="endTheSession(session)"
                  >End</BButton
                ></BTd
              >
            </BTr>
          </BTbody>
        </BTableSimple>
      </StateBox>
    </section>
    <TokenDialog v-model="making" />
  </div>
</template>

<style scoped>
.wrong {
  color: var(--block);
}
</style>
