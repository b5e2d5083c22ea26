<script setup lang="ts">
import type { RolloutState } from '@/api/client'
import { SHOWN } from './states'

/** Where a machine stands with its newest bundle. */
defineProps<{ state: RolloutState['state'] }>()
</script>

<template><StateMark :state="state" v-bind="SHOWN[state]" /></template>
