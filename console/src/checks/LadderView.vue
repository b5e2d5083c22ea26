<script setup lang="ts">
import type { LayerVerdict } from '@/api/client'
import { targetText } from '@/rulesets/kinds'

/** How a layer came to its verdict, drawn as a ladder: the rule that wins on top, each loser on the rung it lost on. */
defineProps<{ layer: LayerVerdict }>()
/** What brings a rule that the ruleset itself does not have, in words. */
const fed = (rule: { feed?: boolean; address_list?: string | null }) =>
  (rule.feed ? ', from a feed' : '') +
  (rule.address_list ? `, from the address list ${rule.address_list}` : '')
</script>

<template>
  <div class="ladder">
    <p class="why">{{ layer.why }}</p>
    <ol>
      <li v-if="layer.winner" class="step win" :class="layer.winner.action">
        <span class="rung">wins</span>
        <div class="rule">
          <ActionMark :action="layer.winner.action" />{{ ' ' }} <b>{{ layer.winner.ruleset }}</b> on
          {{ targetText(layer.winner.target) }}
          <Icon v-if="layer.winner.mandatory" name="nut" label="mandatory" />
          <span class="dim">{{ layer.winner.selector }}{{ fed(layer.winner) }}</span>
          <span v-if="layer.winner.ground && layer.winner.action !== 'allow'" class="dim">
            · ground: {{ layer.winner.ground }}</span
          >
        </div>
      </li>
      <li v-for="lost in layer.lost" :key="`${lost.assignment}/${lost.rule}`" class="step">
        <span class="rung">{{ lost.rung }}</span>
        <div class="rule lost">
          <ActionMark :action="lost.action" />
          {{ lost.ruleset }} on {{ targetText(lost.target) }}
          <Icon v-if="lost.mandatory" name="nut" label="mandatory" />
          <span class="dim">{{ lost.selector }}{{ fed(lost) }}</span>
          <div class="small dim because">{{ lost.why }}</div>
        </div>
      </li>
      <li v-for="one in layer.logged" :key="`${one.assignment}/${one.rule}`" class="step">
        <span class="rung">beside</span>
        <div class="rule lost">
          <ActionMark action="log" /> {{ one.ruleset }} on {{ targetText(one.target) }}
          <span class="dim">{{ one.selector }}, recorded</span>
        </div>
      </li>
      <li v-for="one in layer.left_aside ?? []" :key="`aside ${one.assignment}/${one.rule}`" class="step">
        <span class="rung">aside</span>
        <div class="rule lost">
          <ActionMark :action="one.action" /> {{ one.ruleset }} on {{ targetText(one.target) }}
          <span class="dim">{{ one.selector }}</span>
          <div class="small dim because">{{ one.why }}</div>
        </div>
      </li>
    </ol>
    <p v-if="layer.note && (layer.winner || layer.layer === 'startup')" class="small dim">{{ layer.note }}</p>
  </div>
</template>

<style scoped>
.why {
  margin: 0 0 0.6rem;
}
ol {
  list-style: none;
  margin: 0;
  padding: 0;
}
.step {
  display: grid;
  grid-template-columns: 5.2rem minmax(0, 1fr);
  align-items: stretch;
}
.rung {
  position: relative;
  font-size: 0.8rem;
  color: var(--ink-2);
  padding: 0.45rem 0.9rem 0 0;
  text-align: right;
  border-right: 2px solid var(--line);
}
.rung::after {
  content: '';
  position: absolute;
  right: -0.75rem;
  top: 1.1rem;
  width: 0.75rem;
  border-top: 2px solid var(--line);
}
.win .rung {
  font-weight: 600;
  color: var(--ink);
}
.rule {
  margin: 0 0 0.4rem 0.75rem;
  padding: 0.35rem 0.7rem;
  border: 1px solid var(--line);
  border-radius: 0.4rem;
}
.win .rule {
  border-color: currentcolor;
  box-shadow: inset 3px 0 0 currentcolor;
}
.win.allow .rule {
  border-color: var(--allow);
  box-shadow: inset 3px 0 0 var(--allow);
}
.win.warn .rule {
  border-color: var(--warn);
  box-shadow: inset 3px 0 0 var(--warn);
}
.win.block .rule {
  border-color: var(--block);
  box-shadow: inset 3px 0 0 var(--block);
}
.lost {
  color: var(--ink-2);
}
.because {
  margin-top: 0.1rem;
}
</style>
