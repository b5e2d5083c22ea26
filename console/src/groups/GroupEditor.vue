<script setup lang="ts">
import { refDebounced } from '@vueuse/core'
import { computed } from 'vue'
import { useRouter } from 'vue-router'

import { useSession } from '@/access/useSession'
import type { Group, MembershipRule } from '@/api/client'
import { useAssignments } from '@/assignments/useAssignments'
import { useLeaveGuard } from '@/editing/useLeaveGuard'
import { useSaving } from '@/editing/useSaving'
import { routeOf } from '@/rulesets/kinds'
import { useRulesets } from '@/rulesets/useRulesets'
import { useGroupDraft } from './useGroupDraft'
import { useCopyGroup, useCreateGroup, useGroupPreview, usePutGroup, useRemoveGroup } from './useGroups'

/** Edit a group: its name, its membership rule, its pins. Without one, make a new one. */
const props = defineProps<{ group?: Group; begin?: { key: string; rule: MembershipRule } }>()
const emit = defineEmits<{ saved: [key: string] }>()
const { draft, body, changed, reset } = useGroupDraft(() => props.group, props.begin)
const { mayAuthor } = useSession()
const router = useRouter()
const create = useCreateGroup()
const put = usePutGroup()
const copy = useCopyGroup()
const remove = useRemoveGroup()
const { data: assignments } = useAssignments()
const { data: rulesets } = useRulesets()
const pageOf = (key: string) => routeOf(rulesets.value?.find((one) => one.key === key)?.kind ?? 'category')

const asked = refDebounced(
  computed(() => ({ ...body.value, key: body.value.key || 'new-group' })),
  300,
)
const preview = useGroupPreview(computed(() => (props.group?.built_in ? null : asked.value)))
const problem = computed(
  () => create.error.value ?? put.error.value ?? copy.error.value ?? remove.error.value,
)
const saving = computed(() => create.isPending.value || put.isPending.value)
const users = computed(() =>
  (assignments.value ?? []).filter(({ to }) => props.group && to.includes(props.group.key)),
)

const { save, keepMine, takeTheirs } = useSaving(
  put,
  { body: () => body.value, version: () => draft.base!.version!, reset },
  () => `group ${body.value.key}`,
)
function make() {
  create.plan(body.value, {
    title: `new group ${body.value.key}`,
    onSuccess({ key }) {
      done()
      emit('saved', key)
    },
  })
}
function makeCopy() {
  const key = window.prompt('Key of the copy', `${props.group!.key}-2`)
  if (key)
    copy.plan(
      { group: props.group!.key, as: key.trim() },
      { title: `new group ${key.trim()}`, onSuccess: (made) => emit('saved', made.key) },
    )
}
function drop() {
  const { key, version } = props.group!
  remove.plan(
    { key, version },
    { title: `remove group ${key}`, onSuccess: () => void router.push({ name: 'groups' }) },
  )
}
const done = useLeaveGuard(changed, 'Leave without saving this group?')
</script>

<template>
  <div class="editing">
    <form class="panel" @submit.prevent="group ? save() : make()">
      <EditorHead
        v-model:object-key="draft.key"
        v-model:name="draft.name"
        noun="group"
        :is-new="!group"
        key-example="night-desks"
        name-example="Night desks"
        :changed="changed"
        :fixed="group?.built_in"
        :may-author="mayAuthor"
        :blocked="saving || Boolean(preview.error.value)"
        @undo="reset"
      />
      <SaveProblem :problem="problem" :mine="body" @take="takeTheirs" @keep="keepMine" />
      <p v-if="group?.built_in" class="sub mt-3">
        Built in: it holds {{ group.sentence }}, and cannot be changed.
      </p>
      <fieldset v-else :disabled="!mayAuthor">
        <h2 class="mt-3">Membership rule</h2>
        <RuleEditor :rule="draft.rule" />
        <h2 class="mt-3">By hand</h2>
        <PinEditor :pins="draft.in" title="In, whatever the rule says" where="in" />
        <PinEditor :pins="draft.out" title="Out, whatever else says" where="out" />
      </fieldset>
      <template v-if="group">
        <h2 class="mt-3">What is assigned to it</h2>
        <ul v-if="users.length" class="users">
          <li v-for="user in users" :key="user.key">
            <RouterLink :to="{ name: pageOf(user.ruleset), params: { ruleset: user.ruleset } }">{{
              user.ruleset
            }}</RouterLink>
            {{ ' ' }}<span class="sub">{{ user.sentence }}</span>
          </li>
        </ul>
        <p v-else class="sub">
          Nothing yet. Assign a ruleset under
          <RouterLink :to="{ name: 'categories' }">web categories</RouterLink>.
        </p>
        <div v-if="mayAuthor && !group.built_in" class="deeds">
          <BButton variant="light" @click="makeCopy"><Icon name="copy" /> Copy…</BButton>
          <BButton variant="light" :disabled="users.length > 0" @click="drop">Remove…</BButton>
          <span v-if="users.length" class="small dim">It can be removed once nothing is assigned to it.</span>
        </div>
      </template>
    </form>
    <div>
      <GroupPreviewPanel
        v-if="!group?.built_in"
        :preview="preview.data.value"
        :problem="preview.error.value?.message"
        :saved="Boolean(group)"
      />
      <section v-if="group" class="panel">
        <RouterLink :to="{ name: 'devices', query: { group: group.key } }"
          >Its {{ group.devices.toLocaleString() }} machines</RouterLink
        >,
        <RouterLink :to="{ name: 'overview', query: { group: group.key } }">how they stand</RouterLink>
      </section>
    </div>
  </div>
</template>

<style scoped>
.editing {
  display: grid;
  grid-template-columns: minmax(0, 1fr) 280px;
  gap: 1.25rem;
  align-items: start;
}
.users {
  padding-left: 1.1rem;
  margin-bottom: 0.5rem;
}
.deeds {
  display: flex;
  gap: 0.5rem;
  align-items: center;
  margin-top: 0.8rem;
}
</style>
