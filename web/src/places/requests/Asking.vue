<script setup lang="ts">
import { computed, ref } from 'vue'
import { durationOf, momentOf, shownMs, type Narrow, type Requests } from '@/api/requests'
import Choice from '@/ui/Choice.vue'
import { clock } from '@/ui/format'
import Typed from './Typed.vue'

/** Which requests are looked at, said as a sentence. */
const props = defineProps<{ narrow: Narrow; found: Requests | undefined }>()
const emit = defineEmits<{ ask: [Narrow] }>()
const COUNTED = [
  { value: 'steps', text: 'Steps' },
  { value: 'requests', text: 'Requests on the wire' },
]
const ORDERS = [
  { value: 'slowest', text: 'the slowest first' },
  { value: 'fastest', text: 'the fastest first' },
  { value: 'first', text: 'in order of time' },
  { value: 'last', text: 'the newest first' },
]
const BY = [
  { value: '', text: 'not put together' },
  { value: 'step', text: 'together by step' },
  { value: 'level', text: 'together by level' },
  { value: 'answer', text: 'together by answer' },
  { value: 'minute', text: 'together by minute' },
  { value: 'group', text: 'together by group' },
  { value: 'user', text: 'together by user' },
]
const answers = computed(() => {
  const asked = props.narrow.answer
  const others = asked && !['succeeded', 'failed'].includes(asked) ? [asked] : []
  return [
    { value: 'any', text: 'answered in any way' },
    { value: 'succeeded', text: 'that succeeded' },
    { value: 'failed', text: 'that failed' },
    ...others.map((value) => ({ value, text: `with ${value}` })),
  ]
})
const selections = computed(() =>
  (props.found?.selections ?? [{ id: 'all', name: 'All steps' }]).map(({ id, name }) => ({
    value: id,
    text: name,
  })),
)
const levels = computed(() => [
  { value: '', text: 'any time' },
  ...(props.found?.levels ?? []).map((one) => ({
    value: `${one.from_s} ${one.until_s}`,
    text: one.name,
  })),
  ...(stretch.value &&
  !props.found?.levels.some((one) => `${one.from_s} ${one.until_s}` === stretch.value)
    ? [{ value: stretch.value, text: `${clock(from.value)} to ${clock(until.value)}` }]
    : []),
])
const from = computed(() => Number(props.narrow.from_s ?? 0))
const until = computed(() => Number(props.narrow.until_s ?? 0) || (props.found?.until_s ?? 0))
const stretch = computed(() =>
  props.narrow.from_s || props.narrow.until_s ? `${from.value} ${until.value}` : '',
)
/** What was typed that is no time, by field. */
const faults = ref<Record<string, string>>({})

/** Ask for what it was and these, from the first page on. */
const ask = (changed: Narrow) => emit('ask', { ...props.narrow, ...changed, offset: '' })
function inLevel(value: string | undefined) {
  const [from_s = '', until_s = ''] = (value ?? '').split(' ')
  faults.value = {}
  ask({ from_s: from_s === '0' ? '' : from_s, until_s })
}
function take(name: string, text: string, read: (text: string) => number | null, mend: string) {
  const value = text ? read(text) : 0
  faults.value = { ...faults.value, [name]: value === null ? `${text} is none. ${mend}` : '' }
  if (value !== null) ask({ [name]: value ? String(value) : '' })
}
const moment = (name: string, text: string) =>
  take(name, text, momentOf, 'Say it as 4:05 or 245 s.')
const time = (name: string, text: string) =>
  take(name, text, (given) => durationOf(given, 'ms'), 'Say it as 340 ms or 1.2 s.')
const whole = (name: string, text: string) =>
  take(
    name,
    text,
    (given) => (/^\d{1,9}$/.test(given) ? Number(given) : null),
    'Say a whole number.',
  )
const told = computed(() => Object.values(faults.value).filter(Boolean))
</script>

<template>
  <div
    class="flex flex-wrap items-center gap-x-2 gap-y-1.5"
    role="search"
    aria-label="Which requests"
  >
    <Choice
      :model-value="narrow.counting ?? 'steps'"
      label="Counted as"
      label-hidden
      class="w-44"
      :options="COUNTED"
      @update:model-value="ask({ counting: $event === 'steps' ? '' : ($event ?? '') })"
    />
    of
    <Choice
      :model-value="narrow.of ?? 'all'"
      label="Of which step"
      label-hidden
      class="w-48"
      :options="selections"
      @update:model-value="ask({ of: $event === 'all' ? '' : ($event ?? '') })"
    />
    <Choice
      :model-value="narrow.answer ?? 'any'"
      label="How answered"
      label-hidden
      class="w-44"
      :options="answers"
      @update:model-value="ask({ answer: $event === 'any' ? '' : ($event ?? '') })"
    />
    at
    <Choice
      :model-value="stretch"
      label="At which level"
      label-hidden
      class="w-44"
      :options="levels"
      @update:model-value="inLevel"
    />
    <span class="whitespace-nowrap">
      from
      <Typed
        class="w-14"
        label="From, as a moment of the run"
        :value="clock(from)"
        @take="moment('from_s', $event)" />
      to
      <Typed
        class="w-14"
        label="To, as a moment of the run"
        :value="clock(until)"
        @take="moment('until_s', $event)" /></span
    ><span class="whitespace-nowrap">
      with
      <Typed
        class="w-14"
        label="With at least so many users there"
        placeholder="any"
        :value="narrow.users_from ?? ''"
        @take="whole('users_from', $event)"
      />
      to
      <Typed
        class="w-14"
        label="With at most so many users there"
        placeholder="any"
        :value="narrow.users_until ?? ''"
        @take="whole('users_until', $event)"
      />
      users there,
    </span>
    <span class="whitespace-nowrap">
      longer than
      <Typed
        class="w-20"
        label="Longer than"
        placeholder="any"
        :value="shownMs(narrow.slower_ms)"
        @take="time('slower_ms', $event)"
      />
      up to
      <Typed
        class="w-20"
        label="Up to"
        placeholder="any"
        :value="shownMs(narrow.within_ms)"
        @take="time('within_ms', $event)"
      />,
    </span>
    <span class="whitespace-nowrap">
      of user
      <Typed
        class="w-14"
        label="Of user"
        placeholder="any"
        :value="narrow.user ?? ''"
        @take="whole('user', $event)"
      />,
    </span>
    <Choice
      :model-value="narrow.order ?? 'slowest'"
      label="In which order"
      label-hidden
      class="w-40"
      :options="ORDERS"
      @update:model-value="ask({ order: $event === 'slowest' ? '' : ($event ?? '') })"
    />
    <Choice
      :model-value="narrow.by ?? ''"
      label="Put together by"
      label-hidden
      class="w-44"
      :options="BY"
      @update:model-value="ask({ by: $event ?? '' })"
    />
    <button
      v-if="Object.keys(narrow).length"
      type="button"
      class="text-copper hover:underline"
      @click="((faults = {}), $emit('ask', {}))"
    >
      All of them again
    </button>
    <p v-for="one in told" :key="one" class="w-full text-[13px] text-brick" role="alert">
      ✕ {{ one }}
    </p>
  </div>
</template>
