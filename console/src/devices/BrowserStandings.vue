<script setup lang="ts">
import { useDeviceBrowsers } from './useDevices'

/** The browsers of a machine, and who governs each. */
const props = defineProps<{ device: string }>()
const browsers = useDeviceBrowsers(() => props.device)
const GOVERNORS = { portero: 'Portero', others: 'somebody else', nobody: 'nobody' }
</script>

<template>
  <section class="panel flush mb-3" aria-labelledby="browsers">
    <h2 id="browsers" class="inner">Browsers</h2>
    <StateBox
      :loading="browsers.isPending.value"
      :error="browsers.error.value"
      :empty="browsers.data.value?.length === 0"
      :rows="2"
      @retry="browsers.refetch()"
    >
      <template #empty><p class="sub mb-0">It reports no browser.</p></template>
      <BTableSimple small caption-top class="mb-0">
        <caption class="visually-hidden">
          Browsers of this machine
        </caption>
        <BThead
          ><BTr
            ><BTh>Browser</BTh><BTh>Governed by</BTh><BTh>How it stands</BTh><BTh>Written</BTh></BTr
          ></BThead
        >
        <BTbody>
          <BTr v-for="one in browsers.data.value" :key="one.name">
            <BTd class="text-nowrap">{{ one.name }} {{ one.version }}</BTd>
            <BTd class="text-nowrap"
              ><b :class="one.governed_by">{{ GOVERNORS[one.governed_by] }}</b></BTd
            >
            <BTd>
              {{ one.sentence }}
              <div v-if="one.policy" class="small dim">
                <code>{{ one.policy.file }}</code>
              </div>
            </BTd>
            <BTd class="text-nowrap"
              ><RelativeTime v-if="one.policy?.written_at" :at="one.policy.written_at" /><template v-else
                >–</template
              ></BTd
            >
          </BTr>
        </BTbody>
      </BTableSimple>
    </StateBox>
  </section>
</template>

<style scoped>
.inner {
  padding: 0.9rem 1.1rem 0.2rem;
  margin: 0;
}
code {
  overflow-wrap: anywhere;
}
.others,
.nobody {
  color: var(--warn);
}
</style>
