<script setup lang="ts">
import { computed } from 'vue'

import type { Device } from '@/api/client'

/** Everything that a machine reports about itself, and what the service knows of it. */
const props = defineProps<{ device: Device }>()
const rows = computed(() => {
  const { facts } = props.device
  const browsers = facts.browsers.map(
    (one) => `${one.name} ${one.version ?? ''} (${one.managed ? 'takes managed policy' : 'not managed'})`,
  )
  return [
    ['Id', props.device.id],
    ['Kind', facts.kind],
    ['Unit', facts.unit],
    ['System', facts.os ? `${facts.os.family} ${facts.os.version ?? ''}` : null],
    ['Addresses', facts.addresses.join(', ')],
    ['Browsers', browsers.join(', ')],
    [
      'Applications',
      facts.applications
        .map((application) => `${application.product ?? application.file} ${application.version ?? ''}`)
        .join(', '),
    ],
    ['Serial', facts.serial],
    ['Place', facts.place],
    ['Time zone', facts.zone],
    ['Last start', facts.last_start ? new Date(facts.last_start).toLocaleString() : null],
    ['Signed in', facts.signed_in?.join(', ')],
    ['Facts told', props.device.facts_at ? new Date(props.device.facts_at).toLocaleString() : null],
    ['Joined', props.device.joined_at ? new Date(props.device.joined_at).toLocaleString() : null],
    ['Bundle it should have', props.device.bundle],
    ['Bundle it has applied', props.device.applied_bundle],
    ['Category index it has', props.device.applied_index],
  ]
})
</script>

<template>
  <section class="panel">
    <dl>
      <template v-for="[name, value] in rows" :key="name!">
        <dt>{{ name }}</dt>
        <dd :class="{ mono: name === 'Id' || name?.startsWith('Bundle') }">{{ value || '–' }}</dd>
      </template>
    </dl>
  </section>
</template>

<style scoped>
dl {
  display: grid;
  grid-template-columns: max-content minmax(0, 1fr);
  gap: 0.5rem 1.5rem;
  margin: 0;
}
dt {
  font-weight: 500;
  color: var(--ink-3);
}
dd {
  margin: 0;
  overflow-wrap: anywhere;
}
</style>
