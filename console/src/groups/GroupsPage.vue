<script setup lang="ts">
import { computed } from 'vue'
import { useRoute, useRouter } from 'vue-router'

import { useSession } from '@/access/useSession'
import type { MembershipRule } from '@/api/client'
import { useGroups } from './useGroups'

const NEW = '+new'
const route = useRoute()
const router = useRouter()
const { data: groups, isPending, error, refetch } = useGroups()
const { mayAuthor } = useSession()

const key = computed(() => String(route.params.group || groups.value?.[0]?.key || ''))
const isNew = computed(() => route.params.group === NEW)
const chosen = computed(() => groups.value?.find((group) => group.key === key.value))
const open = (group: string) => router.push({ name: 'groups', params: { group } })
/** A rule that another page proposes, in the address. */
const begin = computed(() => {
  try {
    return { key: String(route.query.as ?? ''), rule: JSON.parse(String(route.query.rule)) as MembershipRule }
  } catch {
    return undefined
  }
})
</script>

<template>
  <div class="page">
    <FleetTabs />
    <PageHead title="Groups">
      <template #actions>
        <BButton v-needs:author variant="light" @click="open(NEW)"><Icon name="plus" /> New group</BButton>
      </template>
      <span
        >Strongest first. A narrower rule counts before a wider one, in whatever groups; of equally narrow
        ones for the same people, the stronger group's.</span
      >
    </PageHead>
    <StateBox :loading="isPending" :error="error" @retry="refetch()">
      <div v-if="groups" class="columns">
        <GroupOrder :groups="groups" :current="isNew ? undefined : key" :movable="mayAuthor" />
        <GroupEditor v-if="isNew" :key="`new ${begin?.key ?? ''}`" :begin="begin" @saved="open" />
        <GroupEditor v-else-if="chosen" :key="chosen.key" :group="chosen" @saved="open" />
        <div v-else class="panel">
          <StateBox empty>
            <template #empty
              ><p class="sub">There is no group “{{ key }}”.</p></template
            >
          </StateBox>
        </div>
      </div>
    </StateBox>
  </div>
</template>
