<script setup lang="ts">
import { useColorMode } from '@vueuse/core'
import { computed, ref } from 'vue'
import { useRouter } from 'vue-router'

import { useSignOut } from '@/access/useSession'
import type { Session } from '@/api/client'
import { useLive } from '@/api/useLive'
import { useFindingCounts } from '@/findings/useFindings'

defineProps<{ session: Session }>()
const STEPS = [
  { name: 'overview', path: '/overview', label: 'Overview' },
  { name: 'devices', path: '/fleet', label: 'Fleet' },
  { name: 'categories', path: '/controls', label: 'Controls' },
  { name: 'board', path: '/assignments', label: 'Assignments' },
  { name: 'findings', path: '/verify', label: 'Verify' },
  { name: 'rollout', path: '/roll-out', label: 'Roll-out' },
  { name: 'activity', path: '/activity', label: 'Activity' },
]
const { connected } = useLive()
const { data: findings } = useFindingCounts()
/** What is to be settled soon: a count stands only where something waits. */
const waiting = computed(() => (findings.value?.open.high ?? 0) + (findings.value?.open.medium ?? 0))
const mode = useColorMode({
  attribute: 'data-bs-theme',
  modes: { light: 'light', dark: 'dark' },
  disableTransition: false,
})
const { mutate: signOut } = useSignOut()
const router = useRouter()
const sought = ref('')
const changing = ref(false)

function find() {
  void router.push({ name: 'find', query: { q: sought.value.trim() || undefined } })
  sought.value = ''
}
</script>

<template>
  <a href="#content" class="visually-hidden-focusable">Skip to the content</a>
  <header class="bar">
    <RouterLink :to="{ name: 'overview' }" class="brand"
      ><Icon name="doorClosed" class="door" />Portero</RouterLink
    >
    <nav class="steps" aria-label="Sections">
      <RouterLink
        v-for="step in STEPS"
        :key="step.name"
        :to="{ name: step.name }"
        :class="{ on: $route.path.startsWith(step.path) }"
        :aria-current="$route.path.startsWith(step.path) ? 'page' : undefined"
        >{{ step.label
        }}<span
          v-if="step.name === 'findings'"
          class="n"
          :class="{ none: !waiting }"
          :aria-label="`${waiting} to settle`"
          >{{ waiting > 99 ? '99+' : waiting }}</span
        ></RouterLink
      >
    </nav>
    <span v-if="!connected" class="off small" role="status"
      ><Icon name="wifiOff" /> not live, reconnecting</span
    >
    <form class="find" role="search" @submit.prevent="find">
      <Icon name="search" class="dim" />
      <BFormInput
        v-model="sought"
        type="search"
        placeholder="Find a host, a machine…"
        aria-label="Find a host, a machine or a rule"
      />
    </form>
    <BDropdown :text="session.name" variant="link" placement="bottom-end" toggle-class="who">
      <BDropdownText class="small">Signed in as {{ session.role }}</BDropdownText>
      <BDropdownItemButton @click="mode = mode === 'dark' ? 'light' : 'dark'">
        <Icon name="moon" /> {{ mode === 'dark' ? 'Light' : 'Dark' }} colours
      </BDropdownItemButton>
      <BDropdownItemButton @click="changing = true">Your password…</BDropdownItemButton>
      <BDropdownItem :to="{ name: 'settings' }">Settings</BDropdownItem>
      <BDropdownItem :to="{ name: 'access' }">Sessions and tokens</BDropdownItem>
      <BDropdownItem :to="{ name: 'administrators' }">Administrators</BDropdownItem>
      <BDropdownItem :to="{ name: 'audit' }">Audit trail</BDropdownItem>
      <BDropdownItemButton @click="signOut()">Sign out</BDropdownItemButton>
    </BDropdown>
    <PasswordDialog v-model="changing" />
  </header>
</template>

<style scoped>
.bar {
  display: flex;
  align-items: center;
  gap: 1.5rem;
  height: 52px;
  padding: 0 1.5rem;
  border-bottom: 1px solid var(--line);
  background: var(--card);
}
.brand {
  display: flex;
  align-items: center;
  gap: 0.5rem;
  font-weight: 650;
  font-size: 1.06rem;
  letter-spacing: -0.01em;
  color: var(--ink);
  text-decoration: none;
}
.door {
  color: var(--brass-2);
}
.steps {
  display: flex;
  gap: 0.15rem;
  align-self: stretch;
}
.steps a {
  display: flex;
  align-items: center;
  padding: 0 0.7rem;
  color: var(--ink-2);
  font-weight: 500;
  border-bottom: 2px solid transparent;
  text-decoration: none;
  white-space: nowrap;
}
.steps a.on {
  color: var(--ink);
  border-color: var(--brass-2);
}
.n {
  /* its room is kept, so that nothing moves when it comes */
  min-width: 1.7rem;
  text-align: center;
  margin-left: 0.35rem;
  padding: 0 0.4rem;
  border-radius: 0.7rem;
  font-size: 0.75rem;
  background: var(--block-wash);
  color: var(--block);
}
.n.none {
  visibility: hidden;
}
@media (max-width: 1150px) {
  .bar {
    gap: 0.7rem;
    padding: 0 0.8rem;
  }
  .steps a {
    padding: 0 0.45rem;
  }
  .bar .find {
    width: 150px;
  }
}
.off {
  color: var(--warn);
}
.find {
  margin-left: auto;
  position: relative;
  width: 230px;
}
.find .icon {
  position: absolute;
  left: 0.7rem;
  top: 0.62rem;
}
.find input {
  padding-left: 2rem;
  background: var(--paper);
}
.bar :deep(.who) {
  color: var(--ink-2);
}
</style>
