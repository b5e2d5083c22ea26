<script setup lang="ts">
import { computed, reactive, ref, watch } from 'vue'

import { layerModeValues } from '@/api/schema'
import { useSession } from '@/access/useSession'
import type { GroupLayers, LayerMode, LayerName, Settings } from '@/api/client'
import { useSaving } from '@/editing/useSaving'
import { useReadiness } from '@/readiness/useReadiness'
import { settingsBody, usePutSettings, useSettings } from '@/settings/useSettings'
import { LAYERS } from './layers'
import { useLayerModes, useRemoveLayerModes } from './useLayerModes'

const settings = useSettings()
const modes = useLayerModes()
const { data: readiness } = useReadiness({})
const put = usePutSettings()
const remove = useRemoveLayerModes()
const { mayKeep } = useSession()
const editing = ref(false)
const chosen = ref<string>()

const draft = reactive<Record<LayerName, LayerMode> & { networks: string }>({
  filter: 'off',
  browser: 'off',
  startup: 'off',
  networks: '',
})
const plain = (value: Settings | undefined) => ({
  ...(value?.layers ?? { filter: 'off', browser: 'off', startup: 'off' }),
  networks: (value?.gateway_networks ?? []).join(', '),
})
/** The settings that the draft began with. */
const base = ref<Settings>()
function reset() {
  base.value = settings.data.value
  Object.assign(draft, plain(base.value))
}
const changed = computed(() => JSON.stringify(draft) !== JSON.stringify(plain(base.value)))
// what others save shows at once, unless it would take away what is being edited
watch(settings.data, () => {
  if (!changed.value) reset()
})
reset()

function settingsOf() {
  const { networks, ...layers } = draft
  const listed = networks.split(',').map((one) => one.trim())
  return { ...settingsBody(base.value!), layers, gateway_networks: listed.filter(Boolean) }
}
const { save, keepMine, takeTheirs } = useSaving(
  put,
  { body: settingsOf, version: () => base.value!.version, reset },
  () => 'settings',
)
function edit(group?: string) {
  chosen.value = group
  editing.value = true
}
function drop(one: GroupLayers) {
  remove.plan(
    { group: one.group, version: one.version },
    { title: `layers of ${one.group} left to weaker groups and the estate` },
  )
}
</script>

<template>
  <div class="page">
    <FleetTabs />
    <PageHead title="Layers">
      <span
        >What each layer of a machine should do. The strongest of its groups that names a layer counts, else
        the estate.</span
      >
    </PageHead>
    <StateBox :loading="settings.isPending.value" :error="settings.error.value" @retry="settings.refetch()">
      <div class="with-side">
        <div>
          <section class="panel flush" aria-labelledby="modes">
            <div class="headline">
              <h2 id="modes">Layer modes, strongest first</h2>
              <BButton v-needs:author variant="light" @click="edit()"
                ><Icon name="plus" /> For a group…</BButton
              >
            </div>
            <BTableSimple caption-top>
              <caption class="visually-hidden">
                Layer modes by group
              </caption>
              <BThead
                ><BTr
                  ><BTh>Where</BTh><BTh v-for="layer in LAYERS" :key="layer.key">{{ layer.name }}</BTh
                  ><BTh><span class="visually-hidden">Next step</span></BTh></BTr
                ></BThead
              >
              <BTbody>
                <BTr v-for="mode in modes.data.value" :key="mode.group">
                  <BTd
                    ><RouterLink :to="{ name: 'groups', params: { group: mode.group } }">{{
                      mode.group
                    }}</RouterLink></BTd
                  >
                  <BTd v-for="layer in LAYERS" :key="layer.key">
                    <template v-if="mode[layer.key]">{{ mode[layer.key] }}</template>
                    <span v-else class="dim">–</span>
                  </BTd>
                  <BTd class="text-end text-nowrap">
                    <span v-needs:author>
                      <BButton variant="link" :aria-label="`Change ${mode.group}`" @click="edit(mode.group)"
                        >Change</BButton
                      >
                      <BButton variant="link" :aria-label="`Remove ${mode.group}`" @click="drop(mode)"
                        >Remove</BButton
                      >
                    </span>
                  </BTd>
                </BTr>
                <BTr class="estate">
                  <BTd><b>the estate</b></BTd>
                  <BTd v-for="layer in LAYERS" :key="layer.key">
                    <BFormSelect
                      v-model="draft[layer.key]"
                      :options="[...layerModeValues]"
                      :disabled="!mayKeep"
                      :aria-label="`${layer.name}, for the estate`"
                    />
                  </BTd>
                  <BTd />
                </BTr>
              </BTbody>
            </BTableSimple>
          </section>
          <section class="panel">
            <h2>Gateway networks</h2>
            <p class="sub">
              A machine that is on-site with an address in one of these leaves filtering to the site's
              gateway, and says so.
            </p>
            <BFormInput
              v-model="draft.networks"
              class="mono"
              aria-label="Gateway networks"
              placeholder="198.51.100.0/24, 2001:db8::/48"
              :disabled="!mayKeep"
            />
          </section>
          <div v-if="changed" class="save">
            <SaveProblem
              :problem="put.error.value"
              :mine="settingsOf()"
              class="wrong"
              @take="takeTheirs"
              @keep="keepMine"
            />
            <BButton variant="light" @click="reset">Undo changes</BButton>
            <BButton variant="primary" :disabled="put.isPending.value" @click="save">Save</BButton>
          </div>
        </div>
        <section v-if="readiness" class="panel" aria-label="What machines do">
          <LayerBar v-for="layer in readiness.layers" :key="layer.layer" :count="layer" />
        </section>
      </div>
    </StateBox>
    <ModesDialog v-model="editing" :modes="modes.data.value ?? []" :group="chosen" />
  </div>
</template>

<style scoped>
.headline {
  display: flex;
  align-items: center;
  justify-content: space-between;
  padding: 0.7rem 1.1rem 0.3rem;
}
.headline h2 {
  margin: 0;
}
.estate td {
  background: var(--wash);
}
.save {
  display: flex;
  justify-content: flex-end;
  align-items: center;
  gap: 0.5rem;
  margin-top: 1rem;
}
.wrong {
  margin: 0 auto 0 0;
}
</style>
