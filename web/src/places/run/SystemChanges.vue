<script setup lang="ts">
import { computed, nextTick, ref, watch } from 'vue'
import { useAskChange, useChanges, type SystemChangeLine } from '@/api/changes'
import Action from '@/ui/Action.vue'
import Choice from '@/ui/Choice.vue'
import Problem from '@/ui/Problem.vue'
import Sentence from '@/ui/Sentence.vue'
import { clock, seconds, users } from '@/ui/format'
import { useRole } from '@/ui/role'
import { useShortcuts } from '@/ui/shortcuts'

/** Changes of the system while the run loads it: asked for here, followed until they have settled. */
const props = defineProps<{
  run: number
  live: boolean
  loading: boolean
  /** How many markers the run has: a change that others, or its timeline, asked for puts some. */
  marked: number
}>()
const emit = defineEmits<{ look: [number]; moved: [] }>()
const { may } = useRole()
const changes = useChanges(
  () => props.run,
  () => props.live,
)
const ask = useAskChange(props.run)
const can = computed(() => changes.data.value?.can ?? [])
const made = computed(() => [...(changes.data.value?.made ?? [])].reverse())
const open = ref(false)
const chosen = ref('')
const values = ref<Record<string, string>>({})
const form = ref<HTMLElement | null>(null)
const change = computed(() => can.value.find((one) => one.name === chosen.value) ?? can.value[0])
const ready = computed(() => change.value?.asks.every((name) => values.value[name]?.trim()))

async function begin() {
  if (!may('planner') || !props.loading || !can.value.length) return
  ask.reset()
  open.value = true
  chosen.value ||= can.value[0]?.name ?? ''
  values.value.component ||= changes.data.value?.components[0] ?? ''
  await nextTick()
  form.value?.querySelector('select')?.focus()
}
function send() {
  if (!change.value || !ready.value) return
  const said = Object.fromEntries(
    change.value.asks.map((name) => [name, values.value[name]?.trim() ?? '']),
  )
  ask.mutate({ name: change.value.name, values: said }, { onSuccess: () => (open.value = false) })
}
/** What became of a change, moment by moment, each since it was asked for. */
function moments(one: SystemChangeLine): { what: string; at: number }[] {
  const found: { what: string; at: number | null }[] = [
    { what: 'asked', at: one.asked_s },
    { what: 'accepted', at: one.accepted_s },
    { what: 'first traffic', at: one.first_traffic_s },
    { what: 'ready', at: one.ready_s },
    { what: 'settled', at: one.settled_s },
  ]
  return found
    .filter((moment): moment is { what: string; at: number } => moment.at !== null)
    .sort((a, b) => a.at - b.at)
}
/** Seen by whole seconds, or by blocks of five: told no more exactly than that. */
const COARSE = ['first traffic', 'settled']
function since(one: SystemChangeLine, moment: { what: string; at: number }): string {
  const after = Math.max(0, moment.at - one.asked_s)
  return COARSE.includes(moment.what) ? `${Math.round(after)} s` : seconds(after)
}
const progress = (one: SystemChangeLine) => {
  const last = one.told.at(-1)
  return last ? `${last.ready} of ${last.of} ready` : ''
}
const WORDS: Record<string, [string, string, string]> = {
  asked: ['◌', 'asked for', 'text-ink-2'],
  accepted: ['◐', 'under way', 'text-ochre'],
  ready: ['○', 'done', 'text-moss'],
  failed: ['✕', 'failed', 'text-brick'],
}
const word = (one: SystemChangeLine) =>
  WORDS[one.state] ?? (['◌', one.state, 'text-ink-2'] as const)
watch(
  () => props.marked,
  () => void changes.refetch(),
)
// Each step of a change puts a marker on the plate.
watch(
  () => changes.data.value?.made.map((one) => one.state).join(),
  (now, before) => before !== undefined && now !== before && emit('moved'),
)
useShortcuts([{ keys: 'C', says: 'Change the system', act: () => void begin() }])
</script>

<template>
  <section
    v-if="made.length || (loading && can.length)"
    class="space-y-2 border-t border-rule pt-2"
    data-testid="changes"
  >
    <div class="flex items-baseline justify-between gap-2">
      <h2 class="text-[15.5px]">Changes of the system</h2>
      <Action
        v-if="!open && loading && can.length"
        needs="planner"
        class="!px-2 !py-0.5"
        @click="begin"
      >
        Change it <kbd>C</kbd>
      </Action>
    </div>
    <form
      v-if="open"
      ref="form"
      class="space-y-2"
      @submit.prevent="send"
      @keydown.esc="open = false"
    >
      <Choice
        v-model="chosen"
        label="What to do"
        :options="can.map((one) => ({ value: one.name, text: one.name }))"
      />
      <div class="grid grid-cols-2 gap-2">
        <template v-for="name in change?.asks ?? []" :key="name">
          <Choice
            v-if="name === 'component'"
            v-model="values[name]"
            label="Component"
            :options="
              (changes.data.value?.components ?? []).map((one) => ({ value: one, text: one }))
            "
          />
          <label v-else class="min-w-0">
            <span class="label block first-letter:uppercase">{{ name }}</span>
            <input
              v-model="values[name]"
              class="field figures"
              autocomplete="off"
              :inputmode="name === 'count' ? 'numeric' : 'text'"
            />
          </label>
        </template>
      </div>
      <Problem v-if="ask.isError.value" :error="ask.error.value" />
      <div class="flex gap-2">
        <button
          type="submit"
          class="rounded border border-copper bg-copper px-3 py-1.5 text-on-copper disabled:opacity-50"
          :disabled="!ready || ask.isPending.value"
          :aria-busy="ask.isPending.value"
        >
          Do it now
        </button>
        <Action @click="open = false">Leave it</Action>
      </div>
    </form>
    <Problem v-if="changes.isError.value" :error="changes.error.value" />
    <p v-if="!made.length && !open" class="text-ink-2">
      Nothing was changed yet. Add an instance while load stands, and see what it brings.
    </p>
    <ol v-if="made.length" class="max-h-96 space-y-3 overflow-y-auto">
      <li v-for="one in made" :key="one.id" data-testid="change">
        <p class="break-words">
          <span class="whitespace-nowrap" :class="word(one)[2]">
            <span aria-hidden="true">{{ word(one)[0] }}</span> {{ word(one)[1] }}
          </span>
          · <span class="font-semibold">{{ one.words }}</span>
          <span v-if="progress(one) && one.state === 'accepted'" class="label">
            {{ progress(one) }}</span
          >
        </p>
        <p class="text-[13px] text-ink-2">
          <template v-for="(moment, i) in moments(one)" :key="moment.what">
            <template v-if="i > 0">, </template>
            <button
              type="button"
              class="underline decoration-dotted hover:text-ink"
              @click="emit('look', moment.at)"
            >
              {{ moment.what }}
              {{ i === 0 ? `at ${clock(moment.at)}` : `after ${since(one, moment)}` }}
            </button>
          </template>
          · {{ one.who }}
        </p>
        <p v-if="one.many" class="text-[13.5px]">
          <RouterLink :to="`/runs/${run}/changes/${one.id}`"
            >How soon
            {{ one.many === 1 ? 'it was' : `the ${users(one.many)} were` }} ready</RouterLink
          >
        </p>
        <p v-if="one.fault" class="text-[13.5px] break-words text-brick">{{ one.fault }}</p>
        <p v-if="one.sentence" class="text-[13.5px]"><Sentence :text="one.sentence" /></p>
      </li>
    </ol>
  </section>
</template>
