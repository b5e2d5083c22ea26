<script setup lang="ts">
import { BButton } from 'bootstrap-vue-next'

import { useSession } from '@/access/useSession'
import ControlTabs from './ControlTabs.vue'
import Icon from './Icon.vue'
import PageHead from './PageHead.vue'
import StateBox from './StateBox.vue'

/** A page of Controls: what there is at the left, the chosen one's editor beside it. */
defineProps<{ title: string; noun: string; loading: boolean; error: Error | null }>()
defineEmits<{ make: []; retry: [] }>()
const { mayAuthor } = useSession()
</script>

<template>
  <div class="page">
    <ControlTabs />
    <PageHead :title="title">
      <template #actions>
        <slot name="actions" />
        <BButton v-if="mayAuthor" variant="light" @click="$emit('make')"
          ><Icon name="plus" /> New {{ noun }}</BButton
        >
      </template>
      <slot name="about" />
    </PageHead>
    <StateBox :loading="loading" :error="error" @retry="$emit('retry')">
      <div class="columns"><slot name="list" /><slot /></div>
    </StateBox>
  </div>
</template>
