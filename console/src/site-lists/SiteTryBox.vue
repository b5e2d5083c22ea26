<script setup lang="ts">
import { refDebounced } from '@vueuse/core'
import { computed, ref, useId } from 'vue'

import type { RulesetBody, Schemas } from '@/api/client'
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
  </section>
</template>

<style scoped>
code {
  overflow-wrap: anywhere;
}
.wrong {
  color: var(--block);
}
.warned {
  color: var(--warn);
}
</style>
