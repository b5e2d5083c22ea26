<script setup lang="ts">
import { computed, ref, useTemplateRef } from 'vue'

import { routeOf } from '@/rulesets/kinds'
import { useRulesets } from '@/rulesets/useRulesets'
import { type Deed, type Feed, useAside, useDeed, useGenerations, useSendFile } from './useFeeds'

/** One feed: what it brings, what is in force, what it brought before, and what can be done with it. */
const props = defineProps<{ feed: Feed }>()
defineEmits<{ edit: [] }>()
const { data: generations } = useGenerations(() => props.feed.key)
const { mutate, error, isPending } = useDeed()
const send = useSendFile()
const act = (deed: Deed) => mutate({ feed: props.feed.key, deed })
const chosen = ref<number | null>(props.feed.waiting?.number ?? null)
const newest = computed(() => props.feed.waiting ?? props.feed.in_force)
const file = useTemplateRef<HTMLInputElement>('file')
const review = ref(false)
const showAside = ref(false)
const { data: aside } = useAside(() => props.feed.key, showAside)
function sendFile() {
  const sent = file.value?.files?.[0]
  if (sent) send.mutate({ feed: props.feed.key, file: sent, review: review.value })
  if (file.value) file.value.value = ''
}
const { data: rulesets } = useRulesets()
/** The rulesets that its indicators are put in; those of hashes are of kind startup. */
const taking = computed(() => (rulesets.value ?? []).filter(({ key }) => props.feed.rulesets?.includes(key)))
const mapping = computed(() => Object.entries(props.feed.mapping ?? {}))
</script>

<template>
  <div class="editor">
    <section class="panel" aria-label="Feed">
      <div class="top">
        <h2 class="mb-0">{{ feed.name }}</h2>
        <code class="dim">{{ feed.key }}</code>
        <span class="deeds">
          <span v-needs:author class="deeds">
            <BButton
              v-if="feed.address"
              variant="light"
              :disabled="isPending || !!feed.progress"
              @click="act('poll')"
              >Read it now</BButton
            >
            <BButton v-if="feed.in_force" variant="light" :disabled="isPending" @click="act('back')"
              >Go back one</BButton
            >
          </span>
          <BButton v-needs:keeper variant="light" @click="$emit('edit')">Edit…</BButton>
        </span>
      </div>
      <p class="sentence">{{ feed.sentence }}</p>
      <p class="small dim mb-0">
        By {{ feed.source ?? 'somebody not named' }}; {{ feed.licence ?? 'no licence noted'
        }}<template v-if="feed.credential">; fetched with a credential</template
        ><template v-if="feed.lifetime_days"
          >; indicators end {{ feed.lifetime_days }} days after they began</template
        ><template v-for="(one, place) in taking" :key="one.key"
          >{{ place ? ' and ' : '; in '
          }}<RouterLink :to="{ name: routeOf(one.kind), params: { ruleset: one.key } }">{{
            one.key
          }}</RouterLink></template
        >
      </p>
      <p v-if="mapping.length" class="small dim mb-0">
        Its words:
        <template v-for="([word, categories], place) in mapping" :key="word"
          ><template v-if="place">; </template><b>{{ word }}</b> is
          {{ categories.join(', ') || 'passed over' }}</template
        >
      </p>
      <p v-if="feed.progress" class="state" role="status">
        <Icon name="hourglass" /> {{ feed.progress.stage }}: {{ feed.progress.lines?.toLocaleString() }} lines
      </p>
      <p v-else-if="feed.last_poll?.result === 'failed'" class="state wrong" role="alert">
        <Icon name="exclamation" /> {{ feed.last_poll.problem }} What was in force stays in force.
        (<RelativeTime :at="feed.last_poll.at" />, {{ feed.last_poll.failures }}
        {{ feed.last_poll.failures === 1 ? 'time' : 'times in a row' }})
      </p>
      <p v-else-if="feed.last_poll" class="small dim mb-0">
        Last read <RelativeTime :at="feed.last_poll.at" />: {{ feed.last_poll.result
        }}<template v-if="feed.next_poll">; next {{ new Date(feed.next_poll).toLocaleString() }}</template>
      </p>
      <p v-if="feed.held" class="state">
        <Icon name="clockHistory" /> Put back, so its schedule rests.
        <BButton v-needs:author variant="link" class="p-0 align-baseline" @click="act('resume')"
          >Resume it</BButton
        >
      </p>
      <p v-if="error || send.error.value" class="state wrong" role="alert">
        <Icon name="exclamation" /> {{ (error ?? send.error.value)?.message }}
      </p>
    </section>

    <section v-if="feed.waiting" class="panel waiting" aria-label="Waiting">
      <div class="top">
        <Icon name="clock" />
        <b>Generation {{ feed.waiting.number }} waits to be looked at.</b>
        <span v-needs:author class="deeds">
          <BButton variant="light" :disabled="isPending" @click="act('drop')">Leave it out</BButton>
          <BButton variant="primary" :disabled="isPending" @click="act('take')">Put it in force</BButton>
        </span>
      </div>
    </section>

    <section
      v-if="newest && (newest.bad || newest.aside || Object.keys(newest.unknown_words ?? {}).length)"
      class="panel"
      aria-label="What could not be used"
    >
      <h2>What could not be used of generation {{ newest.number }}</h2>
      <div v-for="line in newest.bad_lines?.slice(0, 8)" :key="line.line" class="small">
        line {{ line.line.toLocaleString() }}: {{ line.problem }}
      </div>
      <div v-if="(newest.bad ?? 0) > 8" class="small dim">
        and {{ ((newest.bad ?? 0) - 8).toLocaleString() }} more lines
      </div>
      <div v-if="Object.keys(newest.unknown_words ?? {}).length" class="small">
        Words without a category:
        {{
          Object.entries(newest.unknown_words ?? {})
            .map(([word, number]) => `${word} (${number})`)
            .join(', ')
        }}
      </div>
      <template v-if="newest.aside">
        <BButton v-if="!showAside" variant="link" class="p-0" @click="showAside = true"
          >Show what was kept aside</BButton
        >
        <div v-for="item in aside?.items ?? []" :key="item.name" class="small">
          <b>{{ item.name }}</b>: {{ item.problem }}
        </div>
      </template>
    </section>

    <section class="panel flush" aria-label="Generations">
      <h2>Generations</h2>
      <p v-if="!generations?.length" class="sub px-3 pb-3 mb-0">It has brought nothing yet.</p>
      <BTableSimple v-else caption-top>
        <caption class="visually-hidden">
          Generations
        </caption>
        <BThead
          ><BTr
            ><BTh class="text-end">Number</BTh><BTh>When</BTh><BTh>By</BTh><BTh class="text-end">Entries</BTh
            ><BTh class="text-end">New</BTh><BTh class="text-end">Changed</BTh><BTh class="text-end">Gone</BTh
            ><BTh>State</BTh><BTh><span class="visually-hidden">Next step</span></BTh></BTr
          ></BThead
        >
        <BTbody>
          <BTr v-for="one in generations.slice(0, 12)" :key="one.number">
            <BTd class="text-end">{{ one.number }}</BTd>
            <BTd><RelativeTime :at="one.at" /></BTd>
            <BTd>{{ one.by }}</BTd>
            <BTd class="text-end">{{ one.entries.toLocaleString() }}</BTd>
            <BTd class="text-end">{{ one.added?.toLocaleString() }}</BTd>
            <BTd class="text-end">{{ one.changed?.toLocaleString() }}</BTd>
            <BTd class="text-end">{{ one.removed?.toLocaleString() }}</BTd>
            <BTd :class="{ 'fw-semibold': one.state === 'in force' }">{{ one.state }}</BTd>
            <BTd class="text-end text-nowrap"
              ><BButton
                v-if="one.state !== 'gone'"
                variant="link"
                class="p-0"
                :aria-expanded="chosen === one.number"
                @click="chosen = chosen === one.number ? null : one.number"
                >What it changes</BButton
              ></BTd
            >
          </BTr>
        </BTbody>
      </BTableSimple>
    </section>
    <ComparisonPanel v-if="chosen !== null" :feed="feed.key" :number="chosen" />

    <form v-needs:author class="panel send" @submit.prevent="sendFile">
      <label for="feed-file" class="fw-semibold">Send a file</label>
      <input id="feed-file" ref="file" type="file" required class="form-control" />
      <BFormCheckbox v-model="review">let it wait</BFormCheckbox>
      <BButton type="submit" variant="light" :disabled="send.isPending.value || !!feed.progress"
        >Send</BButton
      >
    </form>
  </div>
</template>

<style scoped>
.top {
  display: flex;
  flex-wrap: wrap;
  align-items: center;
  gap: 0.4rem 0.6rem;
}
.deeds {
  margin-left: auto;
  display: flex;
  gap: 0.5rem;
}
.state {
  margin: 0.6rem 0 0;
}
.wrong {
  color: var(--block);
}
.waiting {
  border-color: var(--brass-2);
}
.send {
  display: flex;
  align-items: center;
  gap: 0.8rem;
}
.send .form-control {
  max-width: 22rem;
}
</style>
