<script setup lang="ts">
import { computed, ref } from 'vue'

import { counted, plain } from '@/lib/words'
import { useMachinesWith, useProgram, useTakeBack } from './useCatalogue'

/** One program of the fleet: its versions, who signed them, and the machines that have it. */
const props = defineProps<{ id: number }>()
const { data: program, isPending, error, refetch } = useProgram(() => props.id)
const { data: machines } = useMachinesWith(() => props.id)
const takeBack = useTakeBack()
const correcting = ref(false)
const more = computed(() => (machines.value?.total ?? 0) - (machines.value?.items.length ?? 0))
</script>

<template>
  <section class="panel" :aria-label="program?.name ?? 'Program'">
    <StateBox :loading="isPending" :error="error" :rows="4" @retry="refetch()">
      <template v-if="program">
        <h2 class="mb-1">{{ program.name }}</h2>
        <p class="sub mb-3">
          <template v-if="program.vendor">by {{ program.vendor }}, </template
          ><template v-if="program.category">{{ plain(program.category) }}, </template>on
          {{ counted(program.devices, 'machine')
          }}<template v-if="program.starts"
            >; started {{ counted(program.starts, 'time') }} by
            {{ counted(program.people ?? 0, 'person', 'people') }} on
            {{ counted(program.started_on ?? 0, 'machine') }} in the last 14 days</template
          >
        </p>
        <p class="small mb-2">
          <RouterLink :to="{ name: 'activity', query: { program: program.name } }"
            >Its starts that were stopped, warned of or recorded</RouterLink
          >
        </p>
        <p v-if="program.correction" class="small mb-2">
          Corrected by {{ program.correction.by ?? 'somebody' }}
          <RelativeTime v-if="program.correction.at" :at="program.correction.at" />: machines tell
          {{ program.correction.machines_tell?.map(plain).join(' and ') || 'nothing' }}.
          {{ program.correction.reason }}
        </p>
        <p v-if="program.condition.product" v-needs:author class="mb-3">
          <BButton size="sm" variant="light" @click="correcting = true">Correct what it is for</BButton>
          <BButton
            v-if="program.correction"
            size="sm"
            variant="link"
            @click="takeBack.plan(program.correction, { title: `correction of ${program.name} taken back` })"
            >Take the correction back</BButton
          >
          <span v-if="takeBack.error.value" class="wrong" role="alert">{{
            takeBack.error.value.message
          }}</span>
        </p>
        <CorrectDialog
          v-model="correcting"
          :product="program.name"
          :category="program.category"
          :correction="program.correction"
        />
        <BTableSimple small caption-top>
          <caption class="visually-hidden">
            Versions
          </caption>
          <BThead
            ><BTr
              ><BTh>Version</BTh><BTh class="text-end">Machines</BTh><BTh class="text-end">Starts</BTh
              ><BTh>First seen</BTh><BTh>Signed by</BTh></BTr
            ></BThead
          >
          <BTbody>
            <BTr v-for="(one, place) in program.all_versions" :key="place">
              <BTd
                >{{ one.version ?? 'not known' }}
                <div v-if="one.sha256" class="small dim mono" :title="one.sha256">
                  {{ one.sha256.slice(0, 12) }}
                </div></BTd
              >
              <BTd class="text-end">{{ one.devices.toLocaleString() }}</BTd>
              <BTd class="text-end">{{ one.starts?.toLocaleString() }}</BTd>
              <BTd class="text-nowrap"><RelativeTime :at="one.first_seen" /></BTd>
              <BTd
                ><span v-if="one.signer" :title="one.certificate ?? undefined">{{ one.signer }}</span
                ><span v-else class="dim">nobody</span></BTd
              >
            </BTr>
          </BTbody>
        </BTableSimple>
        <p v-if="machines?.items.length" class="small mb-0">
          On
          <template v-for="(one, place) in machines.items" :key="one.id"
            ><template v-if="place">, </template
            ><RouterLink :to="{ name: 'device', params: { device: one.hostname } }">{{
              one.hostname
            }}</RouterLink></template
          ><template v-if="more > 0"> and {{ more.toLocaleString() }} more</template>
        </p>
      </template>
    </StateBox>
  </section>
</template>

<style scoped>
.wrong {
  color: var(--block);
}
</style>
