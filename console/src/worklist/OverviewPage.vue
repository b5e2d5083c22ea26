<script setup lang="ts">
import { useRouteQuery } from '@vueuse/router'
import { computed } from 'vue'

import type { BlockerCount } from '@/api/client'
import { useGroupOptions } from '@/groups/useGroups'
import { LAYERS } from '@/layer-modes/layers'
import { plain } from '@/lib/words'
import { useReadiness, useUnitReadiness } from '@/readiness/useReadiness'

const unit = useRouteQuery<string>('unit', '')
const group = useRouteQuery<string>('group', '')
const scope = computed(() => ({ unit: unit.value || undefined, group: group.value || undefined }))
const { data, isPending, error, refetch } = useReadiness(scope)
const units = useUnitReadiness(computed(() => unit.value || undefined))
const groupOptions = useGroupOptions('Every group')

const where = computed(() => unit.value || group.value || 'the fleet')
const parts = computed(() => unit.value.split('/').map((_, place, all) => all.slice(0, place + 1).join('/')))
const of = (code: string, layer?: string | null) => (layer ? `${plain(code)} · ${layer}` : plain(code))
const machines = (one: BlockerCount) => ({
  name: 'devices',
  query: { ...scope.value, blocker: one.code, layer: one.layer ?? undefined },
})
const asGroup = (one: BlockerCount) => ({
  name: 'groups',
  params: { group: '+new' },
  query: { rule: JSON.stringify(one.group_rule), as: one.layer ? `${one.code}-${one.layer}` : one.code },
})
</script>

<template>
  <div class="page">
    <PageHead title="Overview">
      <span v-if="data">
        <b>{{ data.devices.toLocaleString() }}</b> machines in {{ where }},
        <RouterLink :to="{ name: 'devices', query: { ...scope, lifecycle: 'invited' } }"
          >{{ data.uncovered }} uncovered</RouterLink
        >
      </span>
      <template #actions>
        <BFormSelect v-model="group" :options="groupOptions" aria-label="Group" />
      </template>
    </PageHead>
    <nav v-if="unit" class="small" aria-label="Unit">
      <a href="#" @click.prevent="unit = ''">All units</a>
      <template v-for="part in parts" :key="part">
        / <a href="#" @click.prevent="unit = part">{{ part.split('/').pop() }}</a></template
      >
    </nav>
    <StateBox :loading="isPending" :error="error" :rows="9" :empty="data?.devices === 0" @retry="refetch()">
      <template #empty>
        <p><b>No machine is known here yet.</b></p>
        <p class="sub">
          Make an enrolment code under <RouterLink :to="{ name: 'enrolment' }">Fleet, Enrolment</RouterLink>.
        </p>
      </template>
      <template v-if="data">
        <WorkTable v-if="!unit && !group" class="mt-3" />
        <div class="with-side">
          <section class="panel" aria-label="Layers">
            <LayerBar v-for="layer in data.layers" :key="layer.layer" :count="layer" :scope="scope" />
          </section>
          <section v-if="units.data.value && units.data.value.length > 1" class="panel flush">
            <BTableSimple caption-top>
              <caption class="visually-hidden">
                Units, and how many of their machines enforce each layer
              </caption>
              <BThead
                ><BTr
                  ><BTh>Unit</BTh
                  ><BTh v-for="layer in LAYERS" :key="layer.key" class="n">{{
                    layer.name.split(' ')[0]
                  }}</BTh></BTr
                ></BThead
              >
              <BTbody>
                <BTr v-for="row in units.data.value" :key="row.unit">
                  <BTd
                    ><a href="#" @click.prevent="unit = row.unit">{{ row.unit.split('/').pop() }}</a> {{ ' '
                    }}<span class="dim">{{ row.devices }}</span></BTd
                  >
                  <BTd v-for="layer in LAYERS" :key="layer.key" class="n">{{ row.enforcing[layer.key] }}</BTd>
                </BTr>
              </BTbody>
            </BTableSimple>
          </section>
        </div>
        <section class="panel flush mt-3" aria-labelledby="way">
          <h2 id="way">What stands in the way, most machines first</h2>
          <StateBox :empty="data.blockers.length === 0">
            <template #empty><p class="mb-0">Nothing: every machine does what it is meant to.</p></template>
            <BTableSimple hover caption-top>
              <caption class="visually-hidden">
                What keeps machines from enforcing, with its remedy
              </caption>
              <BThead
                ><BTr
                  ><BTh class="n">Machines</BTh><BTh>What</BTh><BTh>What to do</BTh
                  ><BTh><span class="visually-hidden">Next step</span></BTh></BTr
                ></BThead
              >
              <BTbody>
                <BTr v-for="blocker in data.blockers" :key="`${blocker.code}/${blocker.layer}`">
                  <BTd class="n"
                    ><RouterLink :to="machines(blocker)"
                      ><b>{{ blocker.devices }}</b></RouterLink
                    ></BTd
                  >
                  <BTd>
                    <RouterLink :to="machines(blocker)">{{ of(blocker.code, blocker.layer) }}</RouterLink>
                    <div class="small sub">{{ blocker.detail }}</div>
                  </BTd>
                  <BTd class="sub">{{ blocker.remedy }}</BTd>
                  <BTd class="text-nowrap text-end">
                    <RouterLink
                      v-if="blocker.group_rule"
                      v-needs:author
                      :to="asGroup(blocker)"
                      class="btn btn-link"
                    >
                      <Icon name="plus" /> Group of these
                    </RouterLink>
                  </BTd>
                </BTr>
              </BTbody>
            </BTableSimple>
          </StateBox>
        </section>
      </template>
    </StateBox>
  </div>
</template>

<style scoped>
.n {
  text-align: right;
  white-space: nowrap;
}
</style>
