<script setup lang="ts">
import { refDebounced } from '@vueuse/core'
import { computed, ref, useId } from 'vue'

import type { RulesetBody, Schemas } from '@/api/client'
import { useGroups } from '@/groups/useGroups'
import { counted } from '@/lib/words'
import { probeSets } from '@/verifying/useDrawUp'
import { useSiteTrial } from './useSiteTrial'

/** Addresses tried on a site list while it is being written: what each browser would do, and by which pattern. */
const props = defineProps<{ ruleset: RulesetBody }>()
const id = useId()
const MOST = 100
const text = ref('')
const urls = computed(() => text.value.split(/\s+/).filter(Boolean).slice(0, MOST))
const written = refDebounced(
  computed(() => ({ ...props.ruleset, key: props.ruleset.key || 'being-written', name: null })),
  300,
)
const { data, error } = useSiteTrial(written, refDebounced(urls, 300))
const shown = computed(() => (urls.value.length ? (data.value ?? []) : []))
const FAMILIES = [
  { family: 'chromium', name: 'Chromium' },
  { family: 'firefox', name: 'Firefox' },
]
const inBrowser = (one: Schemas['TriedUrl'], family: string) =>
  one.browsers?.find((browser) => browser.family === family)
const otherwise = (one: Schemas['TriedUrl'], family: string) => {
  const found = inBrowser(one, family)
  return found !== undefined && one.meant != null && found.verdict !== one.meant
}

// --- as probes: what the list means now is what is expected from then on ---

const { data: groups } = useGroups()
const { data: sets } = probeSets.useAll()
const create = probeSets.useCreate()
const put = probeSets.usePut()
const to = ref('')
const set = ref('')
const saving = computed(() => create.isPending.value || put.isPending.value)
const unsaved = computed(() => create.error.value ?? put.error.value)
const kept = computed(() =>
  shown.value.flatMap(({ url, meant }) => (meant ? [{ visit: url, expect: meant }] : [])),
)
function save() {
  const probes = kept.value.map((probe) => ({ ...probe, to: to.value }))
  const before = sets.value?.find(({ key }) => key === set.value)
  const title = `${counted(probes.length, 'probe')} in ${set.value}`
  if (!before) return create.plan({ key: set.value, to: [], probes }, { title })
  const named = new Set(probes.map(({ visit }) => visit))
  const others = (before.probes ?? []).filter(
    (probe) => probe.to !== to.value || !named.has(probe.visit ?? ''),
  )
  const { key, name, to: where, version } = before
  put.plan({ body: { key, name, to: where, probes: [...others, ...probes] }, version }, { title })
}
</script>

<template>
  <section class="panel" :aria-labelledby="`${id}-head`">
    <h2 :id="`${id}-head`">Try it</h2>
    <label class="form-label" :for="id">Addresses, one a line</label>
    <BFormTextarea
      :id="id"
      v-model="text"
      class="mono"
      rows="4"
      placeholder="https://tickets.example/staff"
      spellcheck="false"
    />
    <p v-if="error" class="wrong small mt-2 mb-0" role="alert">
      <Icon name="exclamation" /> {{ error.message }}
    </p>
    <BTableSimple v-else-if="shown.length" small caption-top class="mt-3 mb-0">
      <caption class="visually-hidden">
        What browsers would make of these addresses
      </caption>
      <BThead
        ><BTr
          ><BTh>Address</BTh><BTh v-for="{ family, name } in FAMILIES" :key="family">{{ name }}</BTh></BTr
        ></BThead
      >
      <BTbody>
        <BTr v-for="one in shown" :key="one.url">
          <BTd
            ><code>{{ one.url }}</code>
            <div v-if="one.problem" class="small wrong">{{ one.problem }}</div></BTd
          >
          <BTd v-for="{ family } in FAMILIES" :key="family">
            <template v-if="inBrowser(one, family)">
              <ActionMark :action="inBrowser(one, family)!.verdict" />
              <div class="small dim">
                <template v-if="inBrowser(one, family)!.pattern"
                  ><code>{{ inBrowser(one, family)!.pattern }}</code
                  ><template v-if="inBrowser(one, family)!.got">
                    as <code>{{ inBrowser(one, family)!.got }}</code></template
                  ></template
                ><template v-else>no pattern holds it</template>
              </div>
              <div v-if="otherwise(one, family)" class="small warned">
                <Icon name="exclamation" /> meant to {{ one.meant }}
              </div>
            </template>
          </BTd>
        </BTr>
      </BTbody>
    </BTableSimple>
    <form v-if="kept.length" v-needs:author class="saving" @submit.prevent="save">
      <div>
        <label class="form-label" :for="`${id}-to`">Tried on machines of</label>
        <BFormSelect
          :id="`${id}-to`"
          v-model="to"
          :options="[{ value: '', text: 'Choose a group' }, ...(groups ?? []).map(({ key }) => key)]"
        />
      </div>
      <div>
        <label class="form-label" :for="`${id}-set`">Probe set</label>
        <BFormInput
          :id="`${id}-set`"
          v-model="set"
          required
          maxlength="64"
          pattern="[a-z0-9][a-z0-9\-]*"
          placeholder="acceptance"
        />
      </div>
      <BButton type="submit" variant="light" :disabled="!to || saving"
        >Save as {{ counted(kept.length, 'probe') }}</BButton
      >
    </form>
    <p v-if="unsaved" class="wrong small mt-2 mb-0" role="alert">
      <Icon name="exclamation" /> {{ unsaved.message }}
    </p>
  </section>
</template>

<style scoped>
code {
  overflow-wrap: anywhere;
}
.saving {
  display: flex;
  flex-wrap: wrap;
  align-items: end;
  gap: 0.75rem;
  margin-top: 1rem;
}
.wrong {
  color: var(--block);
}
.warned {
  color: var(--warn);
}
</style>
