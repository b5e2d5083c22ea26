<script setup lang="ts">
import { refDebounced } from '@vueuse/core'
import { useRouteQuery } from '@vueuse/router'
import { computed } from 'vue'

import { useAdministrators } from '@/administrators/useAdministrators'
import { type AuditEntry, useAudit } from './useAudit'

const by = useRouteQuery<string>('by', '')
const act = useRouteQuery<string>('act', '')
const typedAct = refDebounced(act, 300)
const filters = computed(() => ({ by: by.value || undefined, act: typedAct.value.trim() || undefined }))
const audit = useAudit(filters)
const { data: administrators } = useAdministrators()
const names = computed(() => [
  { value: '', text: 'by anybody' },
  ...(administrators.value ?? []).map(({ name }) => ({ value: name, text: `by ${name}` })),
])
/** The call's name as words. */
const words = (entry: AuditEntry) => entry.act.replace(/([A-Z])/g, ' $1').toLowerCase()
const from = (entry: AuditEntry) => entry.address ?? (entry.means === 'machine' ? 'the machine itself' : '')
</script>

<template>
  <div class="page">
    <SettingsTabs />
    <PageHead title="Audit trail">
      <template #actions>
        <a v-if="audit.total.value" href="/api/v1/audit/lines" download="audit.jsonl" class="btn btn-light"
          >As JSON Lines</a
        >
      </template>
      <span
        >What administrators did, and what was done about them. Each entry holds the digest of the one before:
        <code>portero audit verify</code> shows whether all is still there.</span
      >
    </PageHead>
    <div class="filters">
      <BFormSelect v-model="by" :options="names" aria-label="By" />
      <BFormInput v-model="act" type="search" placeholder="Act, such as createToken" aria-label="Act" />
      <span class="dim ms-auto align-self-center" role="status">{{ audit.total.value ?? '…' }} entries</span>
    </div>
    <div class="panel flush">
      <StateBox
        :loading="audit.isPending.value"
        :error="audit.error.value"
        :empty="audit.total.value === 0"
        :rows="8"
        @retry="audit.refetch()"
      >
        <template #empty><p class="sub mb-0">No entry is like that.</p></template>
        <BTableSimple hover caption-top>
          <caption class="visually-hidden">
            The audit trail, newest first
          </caption>
          <BThead
            ><BTr
              ><BTh class="text-end">No.</BTh><BTh>When</BTh><BTh>By</BTh><BTh>From</BTh><BTh>Act</BTh
              ><BTh>About</BTh></BTr
            ></BThead
          >
          <BTbody>
            <BTr v-for="entry in audit.items.value" :key="entry.number">
              <BTd class="text-end dim">{{ entry.number }}</BTd>
              <BTd class="text-nowrap"><RelativeTime :at="entry.at" /></BTd>
              <BTd
                >{{ entry.by ?? entry.means_id
                }}<span v-if="entry.role" class="small dim">, {{ entry.role }}</span></BTd
              >
              <BTd class="sub text-nowrap"
                >{{ from(entry)
                }}<span v-if="entry.means === 'token'" class="small dim" :title="entry.means_id ?? undefined">
                  by token</span
                ></BTd
              >
              <BTd class="text-nowrap"
                ><span :title="entry.act">{{ words(entry) }}</span
                ><b v-if="entry.outcome === 'refused'" class="refused"> refused</b></BTd
              >
              <BTd class="about"
                ><code v-if="entry.about" class="small">{{ entry.about }}</code>
                <div v-if="entry.detail" class="small sub">{{ entry.detail }}</div>
                <div v-if="entry.reason" class="small sub">“{{ entry.reason }}”</div></BTd
              >
            </BTr>
          </BTbody>
        </BTableSimple>
      </StateBox>
    </div>
    <div v-if="audit.hasNextPage.value" class="text-center mt-3">
      <BButton variant="light" :disabled="audit.isFetchingNextPage.value" @click="audit.fetchNextPage()"
        >Show 100 more</BButton
      >
    </div>
  </div>
</template>

<style scoped>
.refused {
  color: var(--block);
}
.about {
  overflow-wrap: anywhere;
}
</style>
