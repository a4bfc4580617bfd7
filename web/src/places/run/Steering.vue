<script setup lang="ts">
import { computed, nextTick, ref, watch } from 'vue'
import type { Schemas } from '@/api/client'
import { useProspect, useWish, type Wish } from '@/api/steering'
import {
  secondsOf,
  steppedDuration,
  typedAmount,
  typedDuration,
} from '@/places/experiment/quantities'
import Action from '@/ui/Action.vue'
import Choice from '@/ui/Choice.vue'
import Problem from '@/ui/Problem.vue'
import Value from '@/ui/Value.vue'
import { clock, loadFigure } from '@/ui/format'
import { useRole } from '@/ui/role'
import { useShortcuts } from '@/ui/shortcuts'
import { choices, deeds, meant, whom, type Asked } from './steering'

/** Steering a run under way: what is asked is drawn before it is confirmed. */
const props = defineProps<{
  run: Schemas['RunDetail']
  /** What is ordered now, by group: users, or arrivals per second. */
  ordered: Record<string, number>
}>()
const emit = defineEmits<{ prospect: [Schemas['ProfileOutline'] | null] }>()

const { may } = useRole()
const asked = ref<Asked | null>(null)
const who = ref('')
const amount = ref<unknown>(0)
const within = ref('20 s')
const longer = ref('1 min')
const why = ref('')
const panel = ref<HTMLElement | null>(null)
const make = useWish(props.run.id)

const offered = computed(() => deeds(props.run))
const people = computed(() => choices(props.run.people))
const chosen = computed(() => meant(props.run.people, who.value))
const now = computed(() =>
  chosen.value.reduce((sum, one) => sum + (props.ordered[one.name] ?? 0), 0),
)
const unit = computed(() => {
  const arriving = chosen.value.filter((one) => one.arrives).length
  return arriving === 0 ? 'users' : arriving === chosen.value.length ? 'arrivals per second' : ''
})
/** Why what was typed says nothing. */
const fault = computed(() => {
  if (asked.value === 'load') {
    const to = amount.value
    if (!(typeof to === 'number' && to >= 0)) return 'To how many? A number from 0 on.'
    if (secondsOf(within.value) === null) return 'Within what time? Such as 20 s.'
    if (!unit.value) return 'Choose whose load: not all are counted in the same unit.'
    if (to === now.value) return `It is ${loadFigure(now.value)} now.`
  }
  if (asked.value === 'extend' && !((secondsOf(longer.value) ?? 0) > 0))
    return 'How much longer? Such as 1 min.'
  return ''
})
const wish = computed<Wish | null>(() => {
  if (!asked.value || fault.value) return null
  if (asked.value === 'load')
    return {
      verb: Number(amount.value) > now.value ? 'raise' : 'lower',
      amount: Number(amount.value),
      over_s: secondsOf(within.value) ?? 0,
      ...whom(who.value),
    }
  if (asked.value === 'extend') return { verb: 'extend', over_s: secondsOf(longer.value) ?? 0 }
  return { verb: asked.value }
})
const prospect = useProspect(props.run.id, wish)
/** Of this wish, not of the one before it. */
const known = computed(() =>
  wish.value && !prospect.isPlaceholderData.value ? prospect.data.value : undefined,
)
watch(
  () => (asked.value ? (known.value?.profile ?? null) : null),
  (profile) => emit('prospect', profile),
)
const comes = computed(() => {
  const is = known.value
  if (!is?.profile) return ''
  if (is.profile.at_most) return ''
  if (is.profile.endless)
    return 'Drawn dashed: it stays so until somebody changes it or ends the run.'
  const before = props.run.outline.profile
  const ended = `the load ends at ${clock(is.profile.duration_s)}`
  return before.endless || before.at_most
    ? `Drawn dashed: ${ended}.`
    : `Drawn dashed: ${ended} instead of ${clock(before.duration_s)}.`
})
/** The lead answered so late that nobody knows. */
const answer = computed(() => {
  const said = make.data.value
  if (!said) return ''
  return said.accepted === null ? 'The run has not answered yet.' : said.answer
})

async function choose(one: Asked) {
  if (!may('planner')) return
  if (asked.value !== one) make.reset()
  asked.value = one
  why.value = ''
  if (one === 'load') {
    who.value = ''
    amount.value = Math.round(now.value)
  }
  await nextTick()
  panel.value?.querySelector<HTMLElement>('input, [data-confirm]')?.focus()
}
function leave() {
  asked.value = null
  emit('prospect', null)
}
function confirm() {
  if (!wish.value || !known.value || known.value.refused) return
  make.mutate(
    { ...wish.value, why: why.value.trim(), seen: known.value.last },
    {
      onSuccess: leave,
      // Somebody else may have been faster: what would come of it now is looked at first.
      onError: () => void prospect.refetch().then(toConfirm),
    },
  )
}
async function toConfirm() {
  // What is typed is taken over when one leaves the field.
  if (document.activeElement instanceof HTMLElement) document.activeElement.blur()
  await nextTick()
  panel.value?.querySelector<HTMLElement>('[data-confirm]')?.focus()
}
const press = (key: string) => {
  const found = offered.value.find((one) => one.key === key)
  if (found) void choose(found.asked)
}
useShortcuts([
  { keys: 'S', says: 'Change the load of this run', act: () => press('S') },
  { keys: 'H', says: 'Hold the load here, or follow the profile again', act: () => press('H') },
  { keys: 'P', says: 'Pause, or go on', act: () => press('P') },
  { keys: 'N', says: 'Next level now', act: () => press('N') },
  { keys: 'E', says: 'Make this level longer', act: () => press('E') },
])
const step = (value: unknown, by: number) => Math.max(0, (Number(value) || 0) + by)
const QUESTIONS: Partial<Record<Asked, string>> = {
  hold: 'Hold the load as it is now; the clock of the profile stands.',
  resume: 'Go on where the profile was left.',
  pause: 'Users finish their step and wait; the clock of the profile stands.',
  skip: 'Go on to what the profile says next, at once.',
  'let go': 'Nobody comes any more; users finish what they have begun, and the run ends.',
  'cut off': 'End the run at once. What users wait for is ended too, and counted as failed.',
}
// A run that ended, or that somebody else paused, leaves nothing to confirm.
watch(offered, (are) => {
  if (asked.value && !are.some((one) => one.asked === asked.value)) leave()
})
</script>

<template>
  <section class="space-y-2" aria-label="Steering" data-testid="steering">
    <div
      v-for="ends in [false, true]"
      :key="String(ends)"
      class="flex flex-wrap gap-2 empty:hidden"
    >
      <Action
        v-for="one in offered.filter((deed) => deed.ends === ends)"
        :key="one.name"
        needs="planner"
        :kind="one.asked === 'cut off' ? 'danger' : 'plain'"
        :aria-expanded="asked === one.asked"
        :class="asked === one.asked ? '!border-copper' : ''"
        class="!px-2 !py-1"
        @click="choose(one.asked)"
      >
        {{ one.name }} <kbd v-if="one.key">{{ one.key }}</kbd>
      </Action>
      <slot v-if="ends" name="stop" />
    </div>
    <form
      v-if="asked"
      ref="panel"
      class="space-y-2 border-l-2 border-copper pl-3"
      data-testid="asked"
      @submit.prevent="confirm"
      @keydown.esc.stop="leave"
    >
      <div v-if="asked === 'load'" class="leading-8">
        Bring
        <Choice
          v-if="people.length > 1"
          v-model="who"
          class="inline-block w-40 align-middle"
          label="Whose load"
          label-hidden
          :options="people"
        />
        <template v-else>the load</template>
        from {{ loadFigure(now) }} to
        <Value
          label="To how many"
          :value="amount"
          :parse="typedAmount"
          :step="step"
          @take="amount = $event"
          @next="toConfirm"
        />
        {{ unit }} within
        <Value
          label="Within"
          :value="within"
          :parse="(text, before) => typedDuration(text, before)"
          :step="steppedDuration"
          @take="within = String($event)"
          @next="toConfirm"
        />.
      </div>
      <p v-else-if="asked === 'extend'" class="leading-8">
        This level lasts
        <Value
          label="How much longer"
          :value="longer"
          :parse="typedDuration"
          :step="steppedDuration"
          @take="longer = String($event)"
          @next="toConfirm"
        />
        longer; what follows comes later.
      </p>
      <p v-else>{{ QUESTIONS[asked] }}</p>
      <p v-if="fault" class="label" role="status">{{ fault }}</p>
      <p v-else-if="known?.refused" class="text-brick" role="alert">✕ {{ known.refused }}</p>
      <p v-else-if="comes" class="label" role="status" data-testid="comes">{{ comes }}</p>
      <p v-else-if="!known" class="label" role="status">Looking what would come of it …</p>
      <input
        v-model="why"
        class="field"
        aria-label="Why"
        placeholder="why, for whoever reads it later"
        maxlength="500"
      />
      <div class="flex flex-wrap gap-2">
        <Action
          data-confirm
          :kind="asked === 'cut off' ? 'danger' : 'primary'"
          needs="planner"
          :busy="make.isPending.value"
          :disabled="Boolean(known?.refused) || Boolean(fault)"
          @click="confirm"
        >
          Do it
        </Action>
        <Action @click="leave">Leave it as it is</Action>
      </div>
    </form>
    <p
      v-if="answer"
      role="status"
      data-testid="answer"
      class="break-words"
      :class="make.data.value?.accepted === false ? 'text-brick' : ''"
    >
      {{ answer }}
    </p>
    <Problem v-if="make.isError.value" :error="make.error.value" />
    <Problem v-else-if="prospect.isError.value && asked" :error="prospect.error.value" />
  </section>
</template>
