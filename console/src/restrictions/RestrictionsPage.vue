<script setup lang="ts">
import { ref } from 'vue'

import RestrictionDeeds from './RestrictionDeeds.vue'
import { useRestrictions } from './useRestrictions'

/** What some machines may not do for a while. */
const { data, isPending, error, refetch } = useRestrictions()
const deeds = ref<InstanceType<typeof RestrictionDeeds>>()
</script>

<template>
  <div class="page">
    <FleetTabs />
    <PageHead title="Restrictions">
      <template #actions><RestrictionDeeds ref="deeds" label="Restrict machines…" /></template>
      <span>What some machines may not do for a while: for a lesson, an exam, a night.</span>
    </PageHead>
    <div class="panel flush mt-3">
      <StateBox :loading="isPending" :error="error" :empty="!data?.in_force.length" @retry="refetch()">
        <template #empty>
          <p class="sub mb-0">
            Nothing is restricted now.<template v-if="data?.kept.length">
              Kept, to be put on again: {{ data.kept.join(', ') }}.</template
            >
          </p>
        </template>
        <RestrictionList :items="data?.in_force ?? []" @lift="(one) => deeds?.lift(one)" />
      </StateBox>
    </div>
    <p v-if="data?.in_force.length" class="small dim mt-2">
      Kept, to be put on again: {{ data.kept.join(', ') }}.
    </p>
  </div>
</template>
