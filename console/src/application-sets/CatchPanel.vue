<script setup lang="ts">
import { counted } from '@/lib/words'
import type { ApplicationCondition, Catch, Caught } from './useApplicationSets'

/** What a set catches on the fleet now, what came by itself, and what an edit takes in and lets go. */
defineProps<{ found?: Catch; isEdit: boolean }>()
const emit = defineEmits<{ leaveOut: [conditions: ApplicationCondition[]] }>()
function leaveOut({ condition, versions }: Caught) {
  const each = (versions ?? []).map((version) => ({ ...condition, version: { is: version } }))
  emit('leaveOut', each.length ? each : [condition])
}
const MOST = 12
</script>

<template>
  <section class="panel" aria-label="What it catches now">
    <h2>What it catches now</h2>
    <p v-if="!found" class="sub mb-0">…</p>
    <template v-else>
      <p v-if="!found.programs.length" class="sub mb-0">No program that a machine has now.</p>
      <BTableSimple v-else small caption-top class="mb-2">
        <caption class="visually-hidden">
          Programs that it catches
        </caption>
        <BThead
          ><BTr
            ><BTh>Program</BTh><BTh>Versions</BTh><BTh class="text-end">Machines</BTh
            ><BTh class="text-end">People</BTh></BTr
          ></BThead
        >
        <BTbody>
          <BTr v-for="one in found.programs.slice(0, MOST)" :key="one.id">
            <BTd
              >{{ one.name }}
              <span v-if="isEdit && found.adds.some(({ id }) => id === one.id)" class="small new"
                >taken in</span
              >
              <div class="small dim">{{ [one.vendor, one.category].filter(Boolean).join(', ') }}</div></BTd
            >
            <BTd>{{ one.versions?.join(', ') || '–' }}</BTd>
            <BTd class="text-end">{{ one.devices.toLocaleString() }}</BTd>
            <BTd class="text-end">{{ one.people?.toLocaleString() }}</BTd>
          </BTr>
        </BTbody>
      </BTableSimple>
      <p v-if="found.programs.length" class="small sub mb-1">
        {{ counted(found.programs.length, 'program') }} on {{ counted(found.devices, 'machine')
        }}<template v-if="found.programs.length > MOST">; the {{ MOST }} on most machines are shown</template>
      </p>
      <details v-if="found.people?.length" class="small mb-2">
        <summary>
          Started by {{ counted(found.people_in_all ?? 0, 'person', 'people') }} in the last 14 days
        </summary>
        {{ found.people.join(', ')
        }}<template v-if="(found.people_in_all ?? 0) > found.people.length">
          and {{ ((found.people_in_all ?? 0) - found.people.length).toLocaleString() }} more</template
        >
      </details>
      <template v-if="found.came?.length">
        <p class="mb-1">
          <b>Came by itself</b> since it was last written, <RelativeTime :at="found.written_at!" />
        </p>
        <p v-for="one in found.came.slice(0, MOST)" :key="one.id" class="small mb-1">
          {{ [one.name, one.versions?.join(', ')].filter(Boolean).join(' ') }} on
          {{ counted(one.devices, 'machine') }}
          <BButton
            v-needs:author
            variant="link"
            size="sm"
            :aria-label="`Leave out ${one.name}`"
            @click="leaveOut(one)"
            >Leave out</BButton
          >
        </p>
      </template>
      <p v-if="isEdit && found.releases.length" class="small mb-0">
        <b>Lets go</b>
        {{
          found.releases
            .slice(0, MOST)
            .map(({ name, versions }) => [name, versions?.join(', ')].filter(Boolean).join(' '))
            .join('; ')
        }}
      </p>
    </template>
  </section>
</template>

<style scoped>
.new {
  color: var(--brass);
  font-weight: 600;
}
</style>
