<script setup lang="ts">
import { computed, ref } from 'vue'

import { useSession } from '@/access/useSession'
import {
  type Administrator,
  useAdministrators,
  usePutAdministrator,
  useRemoveAdministrator,
  useResetAdministrator,
} from './useAdministrators'

const { data: session } = useSession()
const { data, isPending, error, refetch } = useAdministrators()
const put = usePutAdministrator()
const remove = useRemoveAdministrator()
const resetting = useResetAdministrator()
const editing = ref(false)
const chosen = ref<Administrator>()
const resetDone = ref(false)
const problem = computed(() => put.error.value ?? remove.error.value ?? resetting.error.value)

function edit(one?: Administrator) {
  chosen.value = one
  editing.value = true
}
function turn(one: Administrator) {
  const { role, sees_names, probes_freely, note } = one
  const ends = 'Sessions and tokens end at once.'
  if (one.disabled || window.confirm(`Let ${one.name} in no more? ${ends}`))
    put.mutate({ seen: one, body: { role, sees_names, probes_freely, note, disabled: !one.disabled } })
}
function drop(one: Administrator) {
  if (window.confirm(`Remove ${one.name}, with sessions and tokens? What they did stays under their name.`))
    remove.mutate(one.name)
}
function resetPassword(one: Administrator) {
  if (window.confirm(`Make a first password for ${one.name}? Their sessions end.`))
    resetting.mutate(one.name, { onSuccess: () => (resetDone.value = true) })
}
</script>

<template>
  <div class="page">
    <SettingsTabs />
    <PageHead title="Administrators">
      <template #actions>
        <BButton v-needs:keeper variant="light" @click="edit()"
          ><Icon name="plus" /> New administrator…</BButton
        >
      </template>
      <span>Who may use the service, and how much each may. Keepers make and change them.</span>
    </PageHead>
    <p v-if="problem" class="wrong" role="alert"><Icon name="exclamation" /> {{ problem.message }}</p>
    <StateBox :loading="isPending" :error="error" :rows="5" @retry="refetch()">
      <section class="panel flush mt-3" aria-label="Administrators">
        <BTableSimple hover caption-top>
          <caption class="visually-hidden">
            Administrators
          </caption>
          <BThead
            ><BTr
              ><BTh>Name</BTh><BTh>Role</BTh><BTh>Sees names</BTh><BTh>Probes freely</BTh><BTh>Note</BTh
              ><BTh>Last seen</BTh><BTh><span class="visually-hidden">Next step</span></BTh></BTr
            ></BThead
          >
          <BTbody>
            <BTr v-for="one in data" :key="one.name" :class="{ dim: one.disabled }">
              <BTd
                ><b>{{ one.name }}</b
                ><span v-if="one.name === session?.name" class="small dim"> you</span>
                <span v-if="one.disabled" class="chip">disabled</span>
                <span v-else-if="one.first_password_until" class="chip"
                  >first password until {{ new Date(one.first_password_until).toLocaleDateString() }}</span
                ></BTd
              >
              <BTd>{{ one.role }}</BTd>
              <BTd>{{ one.sees_names ? 'yes' : 'no' }}</BTd>
              <BTd>{{ one.probes_freely ? 'yes' : 'no' }}</BTd>
              <BTd class="sub">{{ one.note }}</BTd>
              <BTd class="text-nowrap"
                ><LastUsed :at="one.last_seen" :from="one.last_from" never="never"
              /></BTd>
              <BTd v-needs:keeper class="text-nowrap"
                ><div class="deeds">
                  <BButton variant="link" :aria-label="`Change ${one.name}`" @click="edit(one)"
                    >Change</BButton
                  >
                  <BDropdown
                    variant="link"
                    text="More"
                    placement="bottom-end"
                    :toggle-attrs="{ 'aria-label': `More about ${one.name}` }"
                  >
                    <BDropdownItemButton @click="resetPassword(one)">New first password…</BDropdownItemButton>
                    <BDropdownItemButton @click="turn(one)">{{
                      one.disabled ? 'Let in again' : 'Disable…'
                    }}</BDropdownItemButton>
                    <BDropdownItemButton @click="drop(one)">Remove…</BDropdownItemButton>
                  </BDropdown>
                </div>
              </BTd>
            </BTr>
          </BTbody>
        </BTableSimple>
      </section>
    </StateBox>
    <AdministratorDialog v-model="editing" :administrator="chosen" />
    <BModal v-model="resetDone" title="A first password" title-tag="h2" no-footer>
      <FirstPassword v-if="resetting.data.value" :made="resetting.data.value" />
      <BButton variant="primary" @click="resetDone = false">Done</BButton>
    </BModal>
  </div>
</template>

<style scoped>
.deeds {
  display: flex;
  justify-content: flex-end;
}
.wrong {
  color: var(--block);
}
</style>
