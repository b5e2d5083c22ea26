<script setup lang="ts">
import type { GroupPreview } from '@/api/client'

/** Whom the group as it is edited would hold, who comes in and who drops out. */
defineProps<{ preview?: GroupPreview; problem?: string; saved: boolean }>()
const more = (all: number, shown: number) =>
  all > shown ? ` and ${(all - shown).toLocaleString()} more` : ''
</script>

<template>
  <section class="panel preview" aria-label="Whom it would hold" aria-live="polite">
    <h2>Whom it would hold</h2>
    <p v-if="problem" class="wrong"><Icon name="exclamation" /> {{ problem }}</p>
    <template v-else-if="preview">
      <p class="count">
        <b>{{ preview.devices.toLocaleString() }}</b> {{ preview.devices === 1 ? 'machine' : 'machines' }}
      </p>
      <p class="small sub">{{ preview.sentence }}</p>
      <p v-if="preview.comes_in" class="in">
        <b>+{{ preview.comes_in }}</b> {{ saved ? 'would come in' : 'come in' }}:
        {{ preview.comes_in_examples.join(', ')
        }}{{ more(preview.comes_in, preview.comes_in_examples.length) }}
      </p>
      <p v-if="preview.drops_out" class="out">
        <b>−{{ preview.drops_out }}</b> would drop out: {{ preview.drops_out_examples.join(', ')
        }}{{ more(preview.drops_out, preview.drops_out_examples.length) }}
      </p>
      <p v-if="preview.devices > preview.comes_in" class="small dim">
        as {{ preview.examples.join(', ') }}{{ more(preview.devices, preview.examples.length) }}
      </p>
      <p v-if="saved && !preview.comes_in && !preview.drops_out" class="dim">As it is now.</p>
      <template v-if="preview.beside.length">
        <h3>These are also in</h3>
        <p class="beside">
          <RouterLink
            v-for="one in preview.beside"
            :key="one.group"
            :to="{ name: 'groups', params: { group: one.group } }"
            class="chip"
            >{{ one.group }} {{ one.devices }}</RouterLink
          >
        </p>
      </template>
      <template v-for="one in preview.missing" :key="one.condition">
        <p class="warned small">
          <Icon name="exclamation" /> {{ one.devices }} held only because they do not report it: not
          <i>{{ one.condition }}</i>, as {{ one.examples.slice(0, 4).join(', ') }}.
        </p>
      </template>
      <p v-if="preview.unknown_pins.length" class="warned small">
        <Icon name="exclamation" /> No machine of that name is known: {{ preview.unknown_pins.join(', ') }}.
      </p>
    </template>
    <p v-else class="dim">…</p>
  </section>
</template>

<style scoped>
.count {
  margin: 0;
  font-size: 1.1rem;
}
p {
  margin-bottom: 0.5rem;
  overflow-wrap: anywhere;
}
h3 {
  font-size: 0.8125rem;
  font-weight: 600;
  margin: 0.6rem 0 0.3rem;
}
.in b {
  color: var(--allow);
}
.out b,
.wrong {
  color: var(--block);
}
.warned {
  color: var(--warn);
}
.beside {
  display: flex;
  flex-wrap: wrap;
  gap: 0.3rem;
}
.beside a {
  text-decoration: none;
}
</style>
