<script setup lang="ts">
import { computed, ref } from 'vue'

import { type Service, useServices } from './useServices'

/** Web applications known by their hosts: how suitable each is, and what was decided about it. */
const { data: services, isPending, error, refetch } = useServices()
const sought = ref('')
const shown = ref(false)
const edited = ref<Service>()
const listed = computed(() => {
  const text = sought.value.trim().toLowerCase()
  return (services.value ?? []).filter(
    (service) => !text || JSON.stringify(service).toLowerCase().includes(text),
  )
})
function edit(service?: Service) {
  edited.value = service
  shown.value = true
}
const traits = (one: Service) =>
  Object.entries(one.traits ?? {}).map(([name, value]) => {
    const words = name.replaceAll('_', ' ')
    return value === true ? words : value === false ? `no ${words}` : `${words}: ${value}`
  })
</script>

<template>
  <div class="page">
    <ControlTabs />
    <PageHead title="Services">
      <template #actions>
        <BButton v-needs:author variant="light" @click="edit()"><Icon name="plus" /> New service</BButton>
      </template>
      <span>Indicators can name a service, all of a suitability, or all on which something was decided.</span>
    </PageHead>
    <StateBox :loading="isPending" :error="error" :empty="!services?.length" @retry="refetch()">
      <template #empty><p class="sub mb-0">There is no service yet. Make the first one.</p></template>
      <section class="panel flush mt-3" aria-label="Services">
        <BFormInput
          v-model="sought"
          type="search"
          class="seek"
          placeholder="Find a service"
          aria-label="Find a service"
        />
        <BTableSimple caption-top>
          <caption class="visually-hidden">
            Services
          </caption>
          <BThead>
            <BTr
              ><BTh>Service</BTh><BTh>Hosts</BTh><BTh>Suitability</BTh><BTh>Decision</BTh><BTh>Traits</BTh
              ><BTh><span class="visually-hidden">Next step</span></BTh></BTr
            >
          </BThead>
          <BTbody>
            <BTr v-for="one in listed" :key="one.key">
              <BTd
                ><b>{{ one.name }}</b>
                <div class="small dim">{{ one.key }}</div></BTd
              >
              <BTd
                ><code v-for="host in one.hosts" :key="host" class="host">{{ host }}</code></BTd
              >
              <BTd>
                <template v-if="typeof one.suitability === 'number'">
                  <span class="scale" aria-hidden="true"
                    ><span :style="{ width: `${one.suitability}%` }"
                  /></span>
                  {{ one.suitability }}
                </template>
                <span v-else class="dim">not judged</span>
              </BTd>
              <BTd>{{ one.decision }}</BTd>
              <BTd class="small dim">{{ traits(one).join(', ') }}</BTd>
              <BTd class="text-end"
                ><BButton v-needs:author variant="link" :aria-label="`Edit ${one.key}`" @click="edit(one)"
                  >Edit</BButton
                ></BTd
              >
            </BTr>
          </BTbody>
        </BTableSimple>
      </section>
    </StateBox>
    <ServiceDialog v-model="shown" :service="edited" />
  </div>
</template>

<style scoped>
.host {
  display: block;
}
.scale {
  display: inline-block;
  width: 4rem;
  height: 0.45rem;
  margin-right: 0.4rem;
  border-radius: 0.25rem;
  background: var(--wash);
  border: 1px solid var(--line);
  overflow: hidden;
}
.scale span {
  display: block;
  height: 100%;
  background: var(--brass-2);
}
</style>
