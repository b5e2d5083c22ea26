<script setup lang="ts">
import { useRouter } from 'vue-router'

import type { Device } from '@/api/client'
import { useDeed } from './useDeeds'
import { useDevice } from './useDevices'

/** A machine with the serial of one that joined before: is it the same? */
const props = defineProps<{ device: Device }>()
const { data: before } = useDevice(() => props.device.rejoin_of!)
const deed = useDeed()
const router = useRouter()

function settle(same: boolean) {
  deed.mutate(
    { device: props.device.id, deed: same ? 'confirm-rejoin' : 'keep-apart' },
    {
      onSuccess(settled) {
        if (router.currentRoute.value.name === 'device')
          void router.replace({ name: 'device', params: { device: settled.id } })
      },
    },
  )
}
</script>

<template>
  <section class="box" aria-label="Recognise a machine">
    <Icon name="exclamation" class="sign" />
    <div>
      <MachineName :id="device.id" :hostname="device.hostname" /> has serial
      <code>{{ device.facts.serial }}</code> of a machine that joined before<template v-if="before"
        >: <MachineName :id="before.id" :hostname="before.hostname" />, last heard
        <RelativeTime :at="before.last_heard" /></template
      >. If it is the same one, it takes up that one's history, labels and pins.
      <div v-if="deed.error.value" role="alert">{{ deed.error.value.message }}</div>
    </div>
    <div v-needs:keeper class="buttons">
      <BButton variant="light" :disabled="deed.isPending.value" @click="settle(false)">Keep apart</BButton>
      <BButton variant="primary" :disabled="deed.isPending.value" @click="settle(true)"
        >It is the same</BButton
      >
    </div>
  </section>
</template>

<style scoped>
.box {
  display: flex;
  align-items: center;
  gap: 0.8rem;
  background: var(--warn-wash);
  border: 1px solid var(--line);
  border-radius: var(--radius);
  padding: 0.7rem 1.1rem;
}
.sign {
  color: var(--warn);
}
.buttons {
  margin-left: auto;
  display: flex;
  gap: 0.5rem;
  flex-shrink: 0;
}
</style>
