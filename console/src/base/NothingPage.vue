<script setup lang="ts"></script>

<template>
  <div class="page">
    <PageHead title="There is no such page">
      <span
        >Perhaps the address was mistyped.
        <RouterLink :to="{ name: 'devices' }">Go to the fleet</RouterLink></span
      >
    </PageHead>
  </div>
</template>
