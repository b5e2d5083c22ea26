<script setup lang="ts">
import type { Schemas } from '@/api/client'

/** A first password, shown this once. */
defineProps<{ made: Schemas['MadeAdministrator'] }>()
</script>

<template>
  <p>
    The first password of {{ made.name }}, shown this once. It is good until
    {{ new Date(made.first_password_until!).toLocaleDateString() }} and has to be changed at the first
    sign-in.
  </p>
  <p class="secret">{{ made.first_password }}</p>
</template>
