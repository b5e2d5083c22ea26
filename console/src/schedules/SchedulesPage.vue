<script setup lang="ts">
import { computed } from 'vue'
import { useRoute, useRouter } from 'vue-router'

import { useSchedules } from './useSchedules'

/** Schedules: when assignments that name them count. */
const NEW = '+new'
const route = useRoute()
const router = useRouter()
const { data: schedules, isPending, error, refetch } = useSchedules()
const key = computed(() => String(route.params.schedule || schedules.value?.[0]?.key || ''))
const isNew = computed(() => route.params.schedule === NEW)
const chosen = computed(() => schedules.value?.find((one) => one.key === key.value))
const open = (schedule: string) => router.push({ name: 'schedules', params: { schedule } })
</script>

<template>
  <KeyedPage
    title="Schedules"
    noun="schedule"
    :loading="isPending"
    :error="error"
    @make="open(NEW)"
    @retry="refetch()"
  >
    <template #about><span>Weekly windows in which the assignments that name them count.</span></template>
    <template #list>
      <KeyedList
        :items="schedules ?? []"
        label="Schedules"
        route="schedules"
        param="schedule"
        :current="isNew ? undefined : key"
        :small="(one) => one.now"
        empty="There is no schedule yet. Make the first one."
      />
    </template>
    <ScheduleEditor v-if="isNew" key="+new" @saved="open" />
    <ScheduleEditor v-else-if="chosen" :key="chosen.key" :schedule="chosen" @saved="open" />
    <div v-else class="panel">
      <p class="sub mb-0">
        {{ key ? `There is no schedule “${key}”.` : 'Make a schedule, then name it in an assignment.' }}
      </p>
    </div>
  </KeyedPage>
</template>
