<script setup lang="ts">
import { computed, ref, useId } from 'vue'

import { browserListPlatformValues } from '@/api/schema'
import { fileOf, type ListQuery, useBrowserList, type Whose } from './useBrowserList'

/** The site list of a machine or group as a browser is handed it, and what became of patterns on the way. */
const props = defineProps<{ whose: Whose; browsers?: string[]; platform?: string }>()
const id = useId()
const MOST = 100
const NAMES = { linux: 'Linux', windows: 'Windows', macos: 'macOS' }
const PLATFORMS = browserListPlatformValues.map((value) => ({ value, text: NAMES[value] }))
const names = computed(() => [...new Set([...(props.browsers ?? []), 'chromium', 'firefox'])])
const browser = ref(names.value[0] ?? 'chromium')
const platform = ref<NonNullable<ListQuery['platform']>>(
  browserListPlatformValues.find((one) => one === props.platform) ?? 'linux',
)
const query = computed<ListQuery>(() => ({ browser: browser.value, platform: platform.value }))
const list = useBrowserList(() => props.whose, query)
const entries = computed(() => [
  ...(list.data.value?.block ?? []).map((entry) => ({ action: 'block' as const, entry })),
  ...(list.data.value?.allow ?? []).map((entry) => ({ action: 'allow' as const, entry })),
])
</script>

<template>
  <section class="panel" aria-label="Site list">
    <div class="choice">
      <div>
        <label class="form-label" :for="`${id}-browser`">Browser</label>
        <BFormSelect :id="`${id}-browser`" v-model="browser" :options="names" />
      </div>
      <div>
        <label class="form-label" :for="`${id}-platform`">In the form of</label>
        <BFormSelect :id="`${id}-platform`" v-model="platform" :options="PLATFORMS" />
      </div>
      <a class="btn btn-light ms-auto" :href="fileOf(whose, query)" download>Download the file</a>
    </div>
    <StateBox :loading="list.isPending.value" :error="list.error.value" :rows="6" @retry="list.refetch()">
      <template v-if="list.data.value">
        <p class="mt-3 mb-1">{{ list.data.value.sentence }}</p>
        <p class="sub small">
          <template v-if="list.data.value.file.place"
            >It goes to <code>{{ list.data.value.file.place }}</code></template
          ><template v-else>It is not known where {{ browser }} looks for it</template>:
          {{ list.data.value.file.tried }}.
        </p>
        <ul v-if="list.data.value.changed?.length || list.data.value.cut?.length" class="told">
          <li v-for="one in list.data.value.changed" :key="one.pattern">{{ one.why }}</li>
          <li v-if="list.data.value.cut?.length">
            Cut off, as {{ browser }} takes {{ list.data.value.limit.toLocaleString() }} entries of each list:
            <code v-for="one in list.data.value.cut.slice(0, 10)" :key="one">{{ one }} </code>
            <template v-if="list.data.value.cut.length > 10"
              >and {{ (list.data.value.cut.length - 10).toLocaleString() }} more</template
            >
          </li>
        </ul>
        <BTableSimple v-if="entries.length" small caption-top class="mt-3">
          <caption>
            What the browser is handed
          </caption>
          <BThead
            ><BTr><BTh>Action</BTh><BTh>Entry</BTh></BTr></BThead
          >
          <BTbody>
            <BTr v-for="one in entries.slice(0, MOST)" :key="`${one.action} ${one.entry}`">
              <BTd><ActionMark :action="one.action" /></BTd>
              <BTd
                ><code>{{ one.entry }}</code></BTd
              >
            </BTr>
          </BTbody>
        </BTableSimple>
        <p v-if="entries.length > MOST" class="sub small">
          and {{ (entries.length - MOST).toLocaleString() }} more; the file has them all
        </p>
        <BTableSimple v-if="list.data.value.needless?.length" small caption-top class="mt-3">
          <caption>
            Needless patterns, left out with the same outcome
          </caption>
          <BThead
            ><BTr><BTh>Action</BTh><BTh>Pattern</BTh><BTh>As this says the same</BTh></BTr></BThead
          >
          <BTbody>
            <BTr v-for="one in list.data.value.needless.slice(0, MOST)" :key="`${one.action} ${one.pattern}`">
              <BTd><ActionMark :action="one.action" /></BTd>
              <BTd
                ><code>{{ one.pattern }}</code></BTd
              >
              <BTd
                ><code v-if="one.by">{{ one.by }}</code
                ><span v-else class="sub">nothing is blocked there</span></BTd
              >
            </BTr>
          </BTbody>
        </BTableSimple>
      </template>
    </StateBox>
  </section>
</template>

<style scoped>
.choice {
  display: flex;
  flex-wrap: wrap;
  align-items: end;
  gap: 0.75rem;
}
.told {
  margin: 0.5rem 0 0;
  padding-left: 1.2rem;
}
code {
  overflow-wrap: anywhere;
}
</style>
