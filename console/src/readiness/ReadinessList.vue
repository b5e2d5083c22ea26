<script setup lang="ts">
import type { Readiness } from '@/api/client'
import { LAYERS } from '@/layer-modes/layers'

/** A machine's layers: what each should do, does, and whether it really enforces; then all that stands in the way. */
defineProps<{ readiness: Readiness; short?: boolean }>()
const nameOf = (key: string) => LAYERS.find((one) => one.key === key)!.name
</script>

<template>
  <ul class="layers">
    <li v-for="layer in readiness.layers" :key="layer.layer">
      <Icon v-if="layer.enforces" name="check" class="good" label="enforces" />
      <Icon v-else-if="layer.meant !== 'enforcing'" name="dash" class="dim" label="not meant to enforce" />
      <Icon v-else name="cross" class="bad" label="does not enforce" />
      <div>
        {{ nameOf(layer.layer) }} <b>{{ layer.reported ?? 'not reported' }}</b> {{ ' '
        }}<span v-if="layer.version" class="dim">{{ layer.version }}</span>
        <div v-if="layer.reported !== layer.meant || !short" class="small sub">
          meant to be {{ layer.meant }}, by
          {{ layer.meant_by === 'estate' ? 'the estate' : layer.meant_by }}
        </div>
      </div>
    </li>
  </ul>
  <ol v-if="readiness.blockers.length" class="blockers" :class="{ short }">
    <li v-for="(blocker, place) in readiness.blockers" :key="place">
      <div>
        {{ blocker.detail }}
        <div v-if="!short" class="sub">
          {{ blocker.remedy }} <RouterLink :to="blocker.link">Go there</RouterLink>
        </div>
      </div>
    </li>
  </ol>
  <p v-else-if="!short" class="sub mb-0">Nothing stands in the way.</p>
</template>

<style scoped>
.layers {
  list-style: none;
  margin: 0;
  padding: 0;
}
.layers li {
  display: flex;
  gap: 0.6rem;
  padding: 0.35rem 0;
  border-bottom: 1px solid var(--line-2);
}
.layers li:last-child {
  border: 0;
}
.good {
  color: var(--allow);
}
.bad {
  color: var(--block);
}
.icon {
  margin-top: 0.2rem;
}
.blockers {
  margin: 0.8rem 0 0;
  padding-left: 1.2rem;
}
.blockers li {
  padding: 0.3rem 0;
}
.blockers.short {
  font-size: 0.8125rem;
  color: var(--ink-2);
}
</style>
