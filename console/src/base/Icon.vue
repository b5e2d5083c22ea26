<script lang="ts">
// Bootstrap Icons as inline drawings: only those that are used are shipped.
import arrowDown from 'bootstrap-icons/icons/arrow-down-short.svg?raw'
import arrowUp from 'bootstrap-icons/icons/arrow-up-short.svg?raw'
import bell from 'bootstrap-icons/icons/bell.svg?raw'
import check from 'bootstrap-icons/icons/check2.svg?raw'
import chevronDown from 'bootstrap-icons/icons/chevron-down.svg?raw'
import chevronRight from 'bootstrap-icons/icons/chevron-right.svg?raw'
import clockHistory from 'bootstrap-icons/icons/clock-history.svg?raw'
import clock from 'bootstrap-icons/icons/clock.svg?raw'
import copy from 'bootstrap-icons/icons/copy.svg?raw'
import dash from 'bootstrap-icons/icons/dash-lg.svg?raw'
import doorClosed from 'bootstrap-icons/icons/door-closed-fill.svg?raw'
import doorOpen from 'bootstrap-icons/icons/door-open.svg?raw'
import exclamationFill from 'bootstrap-icons/icons/exclamation-diamond-fill.svg?raw'
import exclamation from 'bootstrap-icons/icons/exclamation-diamond.svg?raw'
import eye from 'bootstrap-icons/icons/eye.svg?raw'
import grip from 'bootstrap-icons/icons/grip-vertical.svg?raw'
import hourglass from 'bootstrap-icons/icons/hourglass-split.svg?raw'
import journal from 'bootstrap-icons/icons/journal-text.svg?raw'
import key from 'bootstrap-icons/icons/key.svg?raw'
import moon from 'bootstrap-icons/icons/moon-stars.svg?raw'
import nut from 'bootstrap-icons/icons/nut-fill.svg?raw'
import person from 'bootstrap-icons/icons/person.svg?raw'
import pin from 'bootstrap-icons/icons/pin-angle-fill.svg?raw'
import plus from 'bootstrap-icons/icons/plus-lg.svg?raw'
import search from 'bootstrap-icons/icons/search.svg?raw'
import slash from 'bootstrap-icons/icons/slash-circle.svg?raw'
import wifiOff from 'bootstrap-icons/icons/wifi-off.svg?raw'
import cross from 'bootstrap-icons/icons/x-lg.svg?raw'

const ICONS = {
  arrowDown,
  arrowUp,
  bell,
  check,
  chevronDown,
  chevronRight,
  clock,
  clockHistory,
  copy,
  cross,
  dash,
  doorClosed,
  doorOpen,
  exclamation,
  exclamationFill,
  eye,
  grip,
  hourglass,
  journal,
  key,
  moon,
  nut,
  person,
  pin,
  plus,
  search,
  slash,
  wifiOff,
}
export type IconName = keyof typeof ICONS
</script>

<script setup lang="ts">
defineProps<{ name: IconName; label?: string }>()
</script>

<template>
  <!-- the drawings are part of the program, never data -->
  <!-- eslint-disable vue/no-v-html -->
  <span
    class="icon"
    :role="label ? 'img' : undefined"
    :aria-label="label"
    :aria-hidden="label ? undefined : true"
    :title="label"
    v-html="ICONS[name]"
  />
</template>

<style scoped>
.icon {
  display: inline-flex;
  vertical-align: -0.125em;
}
.icon :deep(svg) {
  width: 1em;
  height: 1em;
}
</style>
