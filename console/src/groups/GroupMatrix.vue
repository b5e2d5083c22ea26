<script setup lang="ts">
import { computed } from 'vue'

import { useGroupOverlaps } from '@/board/useBoard'

/** How groups overlap, as a picture: each square is as full as the part of the smaller group that both share. */
const emit = defineEmits<{ choose: [groups: [string, string]] }>()
const { data, isPending, error, refetch } = useGroupOverlaps()
const groups = computed(() => data.value?.groups ?? [])
const shared = computed(
  () =>
    new Map(
      (data.value?.shared ?? []).map(({ groups: [one, other], devices }) => [`${one} ${other}`, devices]),
    ),
)
const sizes = computed(() => new Map(groups.value.map(({ target, devices }) => [target, devices])))
const both = (one: string, other: string) =>
  shared.value.get(`${one} ${other}`) ?? shared.value.get(`${other} ${one}`) ?? 0
function share(one: string, other: string) {
  const smaller = Math.min(sizes.value.get(one) ?? 0, sizes.value.get(other) ?? 0)
  return smaller ? Math.round((100 * both(one, other)) / smaller) : 0
}
</script>

<template>
  <StateBox :loading="isPending" :error="error" :empty="groups.length === 0" @retry="refetch()">
    <template #empty><p class="sub mb-0">There are no groups yet.</p></template>
    <div class="panel flush scroll" tabindex="0" role="region" aria-label="How groups overlap">
      <table class="matrix">
        <caption class="small sub">
          How many machines every two groups share; a square is as full as the part of the smaller group that
          both hold.
        </caption>
        <thead>
          <tr>
            <th><span class="visually-hidden">Group</span></th>
            <th v-for="column in groups" :key="column.target" scope="col">
              <span class="turned">{{ column.target }}</span>
            </th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="(row, place) in groups" :key="row.target">
            <th scope="row">{{ row.target }}</th>
            <td v-for="(column, at) in groups" :key="column.target">
              <span v-if="at === place" class="own">{{ row.devices }}</span>
              <button
                v-else-if="at < place && both(row.target, column.target)"
                type="button"
                :aria-label="`${row.target} and ${column.target} share ${both(row.target, column.target)}`"
                :style="{ '--share': `${share(row.target, column.target)}%` }"
                @click="emit('choose', [column.target, row.target])"
              >
                {{ both(row.target, column.target) }}
              </button>
            </td>
          </tr>
        </tbody>
      </table>
    </div>
  </StateBox>
</template>

<style scoped>
.scroll {
  overflow: auto;
  padding: 0.4rem 0.8rem 0.8rem;
}
.matrix {
  border-collapse: separate;
  border-spacing: 3px;
}
caption {
  caption-side: top;
}
th {
  font-weight: 550;
  white-space: nowrap;
  padding-right: 0.6rem;
}
thead th {
  vertical-align: bottom;
  padding: 0;
}
td {
  width: 2.6rem;
  height: 2rem;
  text-align: center;
  font-variant-numeric: tabular-nums;
}
.own {
  color: var(--ink-3);
}
button {
  width: 100%;
  height: 100%;
  border: 1px solid var(--line);
  border-radius: 0.25rem;
  color: var(--ink);
  background: linear-gradient(to top, var(--brass-wash) var(--share), transparent var(--share));
}
button:hover {
  border-color: var(--brass-2);
}
</style>
