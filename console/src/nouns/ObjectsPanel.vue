<script setup lang="ts">
import { computed } from 'vue'

import { reaches } from '@/access/needs'
import { useSession } from '@/access/useSession'
import { callsOf, type Noun } from './useNouns'

/** The objects of any noun: all of them at the left, the chosen one's document beside. */
const NEW = '+new'
const props = withDefaults(defineProps<{ noun: Noun; chosen: string; route?: string }>(), {
  route: 'objects',
})
const emit = defineEmits<{ open: [key: string] }>()
const { data, isPending, error, refetch } = callsOf(props.noun).useAll()
const { data: session } = useSession()
const may = computed(() => reaches(session.value, props.noun.right))
const items = computed(() =>
  (data.value ?? []).map((one) => {
    const key = String(one[props.noun.key])
    return { ...one, key, name: String(one.name ?? key) }
  }),
)
const key = computed(() => props.chosen || items.value[0]?.key || '')
const found = computed(() => data.value?.find((one) => String(one[props.noun.key]) === key.value))
</script>

<template>
  <StateBox :loading="isPending" :error="error" @retry="refetch()">
    <div class="columns mt-3">
      <KeyedList
        :items="items"
        :label="noun.plural"
        :route="route"
        param="object"
        :current="key"
        :small="(one) => (one.name === one.key ? '' : one.key)"
        :empty="`There is no ${noun.word} yet.`"
      />
      <section class="panel" :aria-label="noun.word">
        <BButton
          v-if="chosen !== NEW"
          v-needs:[noun.right]
          variant="light"
          class="mb-3"
          @click="emit('open', NEW)"
          ><Icon name="plus" /> New {{ noun.word }}</BButton
        >
        <ObjectEditor
          v-if="chosen === NEW"
          key="+new"
          :noun="noun"
          :may="may"
          @saved="emit('open', $event)"
        />
        <ObjectEditor
          v-else-if="found"
          :key="key"
          :noun="noun"
          :object="found"
          :may="may"
          @saved="emit('open', $event)"
        />
        <p v-else class="sub mb-0">
          {{ chosen ? `There is no ${noun.word} “${chosen}”.` : `There is no ${noun.word} yet.` }}
        </p>
      </section>
    </div>
  </StateBox>
</template>
