<script setup lang="ts">
import { computed, ref } from 'vue'

import { useCategories } from '@/categories/useCategories'
import { broughtBy, counted } from '@/lib/words'
import { routeOf } from '@/rulesets/kinds'
import type { Lookup } from './useLookup'

/** All that is known of a host: categories and who says so, where it was seen, which rules touch it. */
const props = defineProps<{ found: Lookup }>()
const correcting = ref(false)
const trying = ref(false)
const tried = ref('')
const { categoryOf, nameOf } = useCategories()
const entered = computed(() => {
  const { source, entry, host } = props.found
  if (source === 'none') return 'no feed and no correction knows it'
  if (source === 'test host') return 'a test host: always in this category, and left out of figures'
  const by = source === 'correction' ? 'corrected here' : 'by feeds'
  return entry === host ? `${by}, by its own entry` : `${by}, by the entry for ${entry}`
})
function tryOut(url: string) {
  tried.value = url
  trying.value = true
}
</script>

<template>
  <section class="panel" aria-label="Look-up">
    <div class="top">
      <h2 class="mono mb-0">{{ found.url ?? found.host }}</h2>
      <span
        v-for="category in found.categories"
        :key="category"
        class="category"
        :title="categoryOf(category)?.definition"
        >{{ nameOf(category)
        }}<template v-if="category === 'newly-registered'">
          (less than {{ found.newly_registered_days }} days)</template
        ></span
      >
      <span class="dim">{{ entered }}</span>
      <span class="deeds">
        <BButton variant="light" @click="tryOut(found.url ?? `http://${found.host}/`)"
          >Try it on a machine…</BButton
        >
        <BButton
          v-if="found.source !== 'test host'"
          v-needs:author
          variant="light"
          @click="correcting = true"
          >{{ found.correction?.host === found.host ? 'Change the correction…' : 'Correct…' }}</BButton
        >
      </span>
    </div>
    <dl class="facts-list">
      <template v-if="found.correction">
        <dt>Correction</dt>
        <dd>
          <code>{{ found.correction.host }}</code> is {{ found.correction.categories.map(nameOf).join(', ') }}
          <span class="dim"
            >by {{ found.correction.by ?? 'somebody' }}, <RelativeTime :at="found.correction.at" />; feeds say
            {{ found.correction.feeds_say.map(nameOf).join(', ') || 'nothing' }}</span
          >
          <div v-if="found.correction.reason" class="dim">{{ found.correction.reason }}</div>
        </dd>
      </template>
      <dt>Feeds</dt>
      <dd>
        <div v-for="said in found.feeds" :key="said.feed" :class="{ passed: !said.counts }">
          <RouterLink :to="{ name: 'feeds', params: { feed: said.feed } }">{{ said.name }}</RouterLink>
          says
          <template v-if="said.entry !== found.host"
            >of <code>{{ said.entry }}</code>
          </template>
          {{ said.categories.map(nameOf).join(', ') || 'nothing any more' }}
          <span class="dim"
            >since {{ said.since
            }}<template v-if="said.registered_on">, registered on {{ said.registered_on }}</template
            ><template v-if="!said.counts">; something else goes before it</template></span
          >
        </div>
        <span v-if="!found.feeds?.length" class="dim">No feed names it.</span>
      </dd>
      <template v-if="found.service">
        <dt>Service</dt>
        <dd>
          <RouterLink :to="{ name: 'services' }">{{ found.service.name }}</RouterLink>
          <span class="dim"
            >, {{ found.service.decision
            }}<template v-if="typeof found.service.suitability === 'number'"
              >, suitability {{ found.service.suitability }}</template
            ></span
          >
        </dd>
      </template>
      <dt>Seen</dt>
      <dd>
        <template v-if="found.devices">
          <RouterLink :to="{ name: 'activity', query: { host: found.host } }"
            >on {{ counted(found.devices, 'machine') }}, {{ counted(found.visits ?? 0, 'visit') }}</RouterLink
          >
          <span class="dim"
            >, first <RelativeTime :at="found.first_seen" />, last <RelativeTime :at="found.last_seen"
          /></span>
        </template>
        <span v-else class="dim">on no machine of the fleet</span>
      </dd>
      <template v-if="found.source !== 'test host' && found.source !== 'none'">
        <dt>Test hosts</dt>
        <dd>
          <template v-for="testHost in found.test_hosts" :key="testHost.host">
            <code>{{ testHost.host }}</code>
            <BButton
              variant="link"
              class="p-0 mx-2 align-baseline"
              @click="tryOut(`http://${testHost.host}/`)"
              >Try it…</BButton
            >
          </template>
        </dd>
      </template>
    </dl>
  </section>
  <section class="panel flush mt-3" aria-label="Rules that touch it">
    <h2>Rules in force that touch it</h2>
    <p v-if="!found.rules?.length" class="sub px-3 pb-3 mb-0">No rule in force touches it.</p>
    <BTableSimple v-else caption-top>
      <caption class="visually-hidden">
        Rules that touch it
      </caption>
      <BThead
        ><BTr><BTh>Does</BTh><BTh>Names</BTh><BTh>Rule</BTh><BTh>On</BTh></BTr></BThead
      >
      <BTbody>
        <BTr
          v-for="rule in found.rules"
          :key="`${rule.ruleset}/${rule.number}`"
          :class="{ passed: rule.ended }"
        >
          <BTd
            ><template v-for="put in rule.assignments" :key="put.assignment"
              ><ActionMark :action="put.action" /><Icon
                v-if="put.mandatory"
                name="nut"
                label="mandatory"
                class="ms-1" /><br
            /></template>
          </BTd>
          <BTd
            ><code>{{ rule.selector }}</code>
            <div class="small dim">
              <template v-if="rule.part">some pages of it only </template
              ><template v-if="rule.ended">has ended</template>
            </div></BTd
          >
          <BTd class="mixed"
            ><RouterLink
              :to="{
                name: routeOf(rule.kind),
                params: { ruleset: rule.ruleset },
              }"
              >{{ rule.ruleset }}</RouterLink
            >, rule {{ rule.number }}
            <div class="small dim">{{ broughtBy(rule) }}</div></BTd
          >
          <BTd
            ><template v-for="put in rule.assignments" :key="put.assignment"
              ><span :title="put.sentence">{{ put.targets.join(', ') }}</span
              ><br
            /></template>
          </BTd>
        </BTr>
      </BTbody>
    </BTableSimple>
  </section>
  <CorrectionDialog
    v-model="correcting"
    :host="found.host"
    :categories="found.categories"
    :reason="found.correction?.host === found.host ? found.correction.reason : ''"
    :version="found.correction?.host === found.host ? found.correction.version : undefined"
  />
  <TryDialog v-model="trying" :url="tried" />
</template>

<style scoped>
.top {
  display: flex;
  flex-wrap: wrap;
  align-items: center;
  gap: 0.4rem 0.8rem;
}
.deeds {
  margin-left: auto;
  display: flex;
  gap: 0.5rem;
}
.category {
  padding: 0.05rem 0.55rem;
  border-radius: 0.8rem;
  background: var(--brass-wash);
  color: var(--brass);
  font-weight: 550;
}
.facts-list {
  display: grid;
  grid-template-columns: 7rem minmax(0, 1fr);
  gap: 0.35rem 1rem;
  margin: 0.9rem 0 0;
}
.facts-list dt {
  font-weight: 500;
  color: var(--ink-3);
}
.facts-list dd {
  margin: 0;
}
.passed {
  color: var(--ink-3);
}
</style>
