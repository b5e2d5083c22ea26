<script setup lang="ts">
import { refDebounced } from '@vueuse/core'
import { computed, ref } from 'vue'

import { useSession } from '@/access/useSession'
import type { Group, MembershipRule } from '@/api/client'
import { useAssignments } from '@/assignments/useAssignments'
import { useEditor } from '@/editing/useEditor'
import { routeOf } from '@/rulesets/kinds'
import { useRulesets } from '@/rulesets/useRulesets'
import { beginWith, bodyOf, draftOf } from './groupDraft'
import { groups, useCopyGroup, useGroupPreview } from './useGroups'

/** Edit a group: its name, its membership rule, its pins. Without one, make a new one. */
const props = defineProps<{ group?: Group; begin?: { key: string; rule: MembershipRule } }>()
const emit = defineEmits<{ saved: [key: string] }>()
const editor = useEditor({
  noun: 'group',
  saved: () => props.group,
  draftOf,
  bodyOf,
  begin: props.begin && beginWith(props.begin),
  calls: groups,
  done: (key) => emit('saved', key),
})
const { draft, body } = editor
const { mayAuthor } = useSession()
const copy = useCopyGroup()
const saying = ref(false)
const { data: assignments } = useAssignments(() => ({ group: props.group?.key ?? '' }))
const { data: rulesets } = useRulesets()
const pageOf = (key: string) => routeOf(rulesets.value?.find((one) => one.key === key)?.kind ?? 'category')

const asked = refDebounced(
  computed(() => ({ ...body.value, key: body.value.key || 'new-group' })),
  300,
)
const preview = useGroupPreview(computed(() => (props.group?.built_in ? null : asked.value)))
const users = computed(() => assignments.value ?? [])

function makeCopy() {
  const key = window.prompt('Key of the copy', `${props.group!.key}-2`)
  if (key)
    copy.plan(
      { group: props.group!.key, as: key.trim() },
      { title: `new group ${key.trim()}`, onRead: (made) => emit('saved', made.key) },
    )
}
</script>

<template>
  <div class="editing">
    <EditorForm
      :editor="editor"
      key-example="night-desks"
      name-example="Night desks"
      :fixed="group?.built_in"
      :removable="group && !group.built_in && !users.length"
      :blocked="Boolean(preview.error.value)"
      :other-problem="copy.error.value"
    >
      <template #below>
        <p v-if="group?.built_in" class="sub mt-3">
          Built in: it holds {{ group.sentence }}, and cannot be changed.
        </p>
        <fieldset v-else :disabled="!mayAuthor">
          <h2 class="mt-3">Membership rule</h2>
          <RuleEditor :rule="draft.rule" />
          <h2 class="mt-3">By hand</h2>
          <PinEditor :pins="draft.in" title="In, whatever the rule says" where="in" />
          <PinEditor :pins="draft.out" title="Out, whatever else says" where="out" />
          <label class="form-label d-block mt-3" for="check-in">Seconds between check-ins</label>
          <BFormInput
            id="check-in"
            v-model="draft.checkIn"
            type="number"
            min="15"
            max="86400"
            class="check-in"
            placeholder="as weaker groups and the settings say"
          />
        </fieldset>
        <template v-if="group">
          <h2 class="mt-3">What is assigned to it</h2>
          <ul v-if="users.length" class="users">
            <li v-for="user in users" :key="user.key" class="mixed">
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
          <div v-needs:author class="deeds">
            <BButton variant="light" @click="saying = true">Block or allow…</BButton>
            <BButton v-if="!group.built_in" variant="light" @click="makeCopy"
              ><Icon name="copy" /> Copy…</BButton
            >
            <span v-if="users.length && !group.built_in" class="small dim"
              >It can be removed once nothing is assigned to it.</span
            >
          </div>
          <PushButton :machines="{ group: group.key }" :to="group.name ?? group.key" class="mt-2" />
          <QuickRuleDialog v-model="saying" :on="group.key" of="group" />
        </template>
      </template>
    </EditorForm>
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
        >, <RouterLink :to="{ name: 'overview', query: { group: group.key } }">how they stand</RouterLink>,
        <RouterLink :to="{ name: 'group-site-list', params: { group: group.key } }"
          >its site list in browsers</RouterLink
        >
      </section>
    </div>
  </div>
</template>

<style scoped>
.check-in {
  max-width: 20rem;
}
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
