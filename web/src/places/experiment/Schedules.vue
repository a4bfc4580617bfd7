<script setup lang="ts">
import { useIntervalFn } from '@vueuse/core'
import { computed, ref } from 'vue'
import {
  useAddSchedule,
  useRemoveSchedule,
  useSchedules,
  type Every,
  type Schedule,
} from '@/api/schedules'
import Action from '@/ui/Action.vue'
import Choice from '@/ui/Choice.vue'
import Problem from '@/ui/Problem.vue'
import { when } from '@/ui/format'
import { dayAndTime, fieldsAt, inWords, sameClock } from './times'

/** Runs at a time: what is to come, what became of those that were due, and a form for one more. */
const props = defineProps<{ id: number; disabled: boolean }>()
const AHEAD_MS = 3_600_000
const schedules = useSchedules(props.id)
const add = useAddSchedule(props.id)
const remove = useRemoveSchedule(props.id)
const own = Intl.DateTimeFormat().resolvedOptions().timeZone
const first = fieldsAt(new Date(Date.now() + AHEAD_MS))
const day = ref(first.day)
const time = ref(first.time)
const every = ref<string>('')
const now = ref(new Date())
useIntervalFn(() => (now.value = new Date()), 1_000)
const OFTEN = [
  { value: '', text: 'once' },
  { value: 'day', text: 'each day' },
  { value: 'weekday', text: 'each weekday' },
  { value: 'week', text: 'each week' },
]
const coming = computed(() =>
  (schedules.data.value ?? [])
    .filter((s) => s.next_at)
    .sort((a, b) => Date.parse(a.next_at ?? '') - Date.parse(b.next_at ?? '')),
)
const been = computed(() =>
  (schedules.data.value ?? [])
    .flatMap((s) => s.starts)
    .sort((a, b) => Date.parse(b.due_at) - Date.parse(a.due_at))
    .slice(0, 5),
)
const chosen = computed(() => new Date(`${day.value}T${time.value}`))
const soon = computed(() => {
  const there = chosen.value.getTime()
  if (Number.isNaN(there)) return 'Give a day and a time.'
  if (there <= now.value.getTime()) return 'That time has passed.'
  return `${dayAndTime(chosen.value, own)}, ${inWords(chosen.value, now.value)} (${own}).`
})
const may = computed(() => chosen.value.getTime() > now.value.getTime())

function words(schedule: Schedule): string {
  const next = new Date(schedule.next_at ?? '')
  const there = sameClock(next, schedule.zone, own)
    ? ''
    : `, ${dayAndTime(next, schedule.zone)} in ${schedule.zone}`
  const often = schedule.every ? `, ${OFTEN.find((o) => o.value === schedule.every)?.text}` : ''
  return `${dayAndTime(next, own)} your time${there}${often}`
}
async function make() {
  const asked = { at: `${day.value}T${time.value}`, zone: own, every: every.value as Every }
  await add.mutateAsync(asked).catch(() => undefined)
}
</script>

<template>
  <div class="space-y-2" data-testid="schedules">
    <ul v-if="coming.length" class="space-y-2">
      <li v-for="s in coming" :key="s.id" class="border-l-2 border-copper pl-3">
        <span class="font-semibold">Load begins {{ inWords(new Date(s.next_at!), now) }}</span
        >: {{ words(s) }}.
        <span class="label">{{ s.by }}</span>
        <Action
          class="ml-2"
          needs="planner"
          :aria-label="`Take off ${words(s)}`"
          :busy="remove.isPending.value"
          @click="remove.mutate(s.id)"
          >Take off</Action
        >
      </li>
    </ul>
    <details>
      <summary class="cursor-pointer">At a time …</summary>
      <form class="mt-2 space-y-2" @submit.prevent="make">
        <div class="grid grid-cols-2 gap-2">
          <label class="min-w-0"
            ><span class="label block">Day</span>
            <input v-model="day" type="date" class="field" required />
          </label>
          <label class="min-w-0"
            ><span class="label block">Load begins at</span>
            <input v-model="time" type="time" class="field" required />
          </label>
        </div>
        <Choice v-model="every" label="How often" :options="OFTEN" />
        <p class="text-ink-2">
          {{ soon }} Generators, meters and a trial get ready in the minute before. If nothing runs
          here at that time, it is missed and told, not made up for.
        </p>
        <Action
          needs="planner"
          type="submit"
          :busy="add.isPending.value"
          :disabled="disabled || !may"
          >Schedule</Action
        >
        <Problem v-if="add.isError.value" :error="add.error.value" />
      </form>
    </details>
    <Problem v-if="remove.isError.value" :error="remove.error.value" />
    <ul v-if="been.length" aria-label="Times that have passed">
      <li v-for="start in been" :key="start.due_at + start.told" class="break-words">
        <span class="label mr-2">{{ when(start.due_at) }}</span>
        <RouterLink v-if="start.run_id" :to="`/runs/${start.run_id}`"
          >Run {{ start.run_id }}</RouterLink
        >
        <span v-else class="text-brick">{{ start.told || 'Its run was deleted.' }}</span>
      </li>
    </ul>
  </div>
</template>
