<script setup lang="ts">
/** Labels as rows of name and value. */
const rows = defineModel<{ name: string; value: string }[]>({ required: true })
const add = () => (rows.value = [...rows.value, { name: '', value: '' }])
const remove = (place: number) => (rows.value = rows.value.filter((_, one) => one !== place))
</script>

<template>
  <fieldset>
    <legend class="form-label">Labels</legend>
    <div v-for="(row, place) in rows" :key="place" class="row-line">
      <BFormInput
        v-model="row.name"
        placeholder="wave"
        aria-label="Label"
        maxlength="64"
        pattern="[a-z0-9][a-z0-9\-]*"
      />
      <BFormInput v-model="row.value" placeholder="first" aria-label="Value of the label" maxlength="255" />
      <BButton variant="link" aria-label="Remove this label" @click="remove(place)"
        ><Icon name="cross"
      /></BButton>
    </div>
    <BButton variant="link" @click="add"><Icon name="plus" /> Label</BButton>
  </fieldset>
</template>

<style scoped>
legend {
  font-size: inherit;
}
.row-line {
  display: grid;
  grid-template-columns: 9rem minmax(0, 1fr) auto;
  gap: 0.35rem;
  margin-bottom: 0.3rem;
}
</style>
