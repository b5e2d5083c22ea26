<script setup lang="ts">
import { SHOWN } from './states'
import type { Receipt } from './usePushes'

/** How far a machine is with a push. */
defineProps<{ state: Receipt['state'] }>()
</script>

<template><StateMark :state="state" v-bind="SHOWN[state]" /></template>
