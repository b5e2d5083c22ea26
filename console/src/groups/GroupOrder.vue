<script setup lang="ts">
import { useSortable } from '@vueuse/integrations/useSortable'
import { computed, nextTick, ref, useTemplateRef, watch } from 'vue'

import type { Group } from '@/api/client'
import { useSaving } from '@/editing/useSaving'
import { useGroupOrder, usePutOrder } from './useGroups'

/** All groups in their one order, strongest first; moved by dragging or by keyboard, put in force after a preview. */
const props = defineProps<{ groups: Group[]; current?: string; movable: boolean }>()
const saved = useGroupOrder()
const order = ref<string[]>([])
const put = usePutOrder()
const list = useTemplateRef('list')
const told = ref('')

const moved = computed(() => order.value.join() !== base.value.precedence.join())
const byKey = computed(() => new Map(props.groups.map((group) => [group.key, group])))
const builtIn = computed(() => props.groups.filter((group) => group.built_in))
/** The order that was there when moving began. */
const base = ref({ precedence: [] as string[], version: 0 })
function reset() {
  base.value = saved.data.value ?? base.value
  order.value = [...base.value.precedence]
}
// what others did shows at once, unless it would take away what is being moved
watch(
  saved.data,
  () => {
    if (!moved.value) reset()
  },
  { immediate: true },
)

if (props.movable) useSortable(list, order, { handle: '.grip', animation: 120 })

const { save, keepMine, takeTheirs } = useSaving(
  put,
  {
    body: () => order.value,
    version: () => base.value.version,
    reset: () => void saved.refetch().then(reset),
  },
  () => 'order of groups',
)
const look = () => save()

async function move(key: string, by: number) {
  const place = order.value.indexOf(key)
  const next = place + by
  if (next < 0 || next >= order.value.length) return
  const turned = [...order.value]
  turned.splice(place, 1)
  turned.splice(next, 0, key)
  order.value = turned
  told.value = `${key} is number ${next + 1} of ${turned.length}`
  await nextTick()
  document.getElementById(`move-${key}`)?.focus()
}
</script>

<template>
  <nav class="panel flush" aria-label="Groups, strongest first">
    <p class="visually-hidden" aria-live="polite">{{ told }}</p>
    <ol ref="list">
      <li v-for="(key, place) in order" :key="key" :class="{ on: key === current }">
        <button
          v-if="movable"
          :id="`move-${key}`"
          type="button"
          class="grip"
          :aria-label="`Move ${key}: arrow up is stronger, arrow down is weaker`"
          @keydown.up.prevent="move(key, -1)"
          @keydown.down.prevent="move(key, 1)"
        >
          <Icon name="grip" />
        </button>
        <RouterLink
          :to="{ name: 'groups', params: { group: key } }"
          :aria-current="key === current ? 'true' : undefined"
        >
          <span class="place">{{ place + 1 }}</span>
          <span class="name">{{ byKey.get(key)?.name ?? key }}</span>
          <span class="dim">{{ byKey.get(key)?.devices }}</span>
        </RouterLink>
      </li>
    </ol>
    <ol class="fixed">
      <li v-for="group in builtIn" :key="group.key" :class="{ on: group.key === current }">
        <RouterLink :to="{ name: 'groups', params: { group: group.key } }">
          <span class="place"><Icon name="dash" label="built in" /></span>
          <span class="name">{{ group.name }}</span>
          <span class="dim">{{ group.devices }}</span>
        </RouterLink>
      </li>
    </ol>
    <div v-if="moved" class="save">
      <BButton variant="light" @click="reset">Undo</BButton>
      <BButton variant="primary" @click="look">Look at this order…</BButton>
    </div>
    <SaveProblem
      :problem="put.error.value"
      :mine="{ precedence: order }"
      @take="takeTheirs"
      @keep="keepMine"
    />
  </nav>
</template>

<style scoped>
ol {
  list-style: none;
  margin: 0;
  padding: 0;
}
li {
  display: flex;
  border-bottom: 1px solid var(--line-2);
}
li:hover {
  background: var(--wash);
}
li.on {
  background: var(--brass-wash);
  box-shadow: inset 3px 0 0 var(--brass-2);
}
li a {
  display: flex;
  flex: 1;
  min-width: 0;
  gap: 0.5rem;
  padding: 0.45rem 0.8rem 0.45rem 0.2rem;
  color: var(--ink);
  text-decoration: none;
}
.fixed li a {
  padding-left: 1.95rem;
}
.fixed {
  background: var(--wash);
}
.name {
  flex: 1;
  overflow: hidden;
  text-overflow: ellipsis;
  white-space: nowrap;
}
.place {
  width: 1.4rem;
  text-align: right;
  color: var(--ink-3);
}
.grip {
  background: none;
  border: 0;
  padding: 0;
  width: 1.75rem;
  color: var(--ink-3);
  cursor: grab;
}
.save {
  display: flex;
  justify-content: flex-end;
  gap: 0.5rem;
  padding: 0.6rem;
}
a:focus-visible,
.grip:focus-visible {
  outline-offset: -2px;
}
</style>
