<script setup lang="ts">
import { computed } from 'vue'
import type { PlanOutline } from '@/api/experiments'
import Action from '@/ui/Action.vue'
import Choice from '@/ui/Choice.vue'
import Field from '@/ui/Field.vue'
import { usePlan, type GoalDoc } from './plan'
import { typedDuration, typedRate, typedShare } from './quantities'

/** What shall hold: response times, errors, Apdex scores and throughput; each decides, or is for information. */
const props = defineProps<{ outline: PlanOutline }>()
const plan = usePlan()
const goals = computed(() => plan.data.value?.objectives ?? [])
const KEY = /^p([1-9][0-9](?:\.[0-9])?)$/
type What = 'time' | 'mean' | 'errors' | 'apdex' | 'throughput'
const keyOf = (goal: GoalDoc) => Object.keys(goal).find((key) => KEY.test(key))
function whatOf(goal: GoalDoc): What {
  if (goal.errors !== undefined) return 'errors'
  if (goal.mean !== undefined) return 'mean'
  if (goal.throughput !== undefined) return 'throughput'
  return goal.apdex !== undefined ? 'apdex' : 'time'
}
const percentile = (goal: GoalDoc) => goal.percentile ?? Number(keyOf(goal)?.slice(1) ?? 95)
const within = (goal: GoalDoc) => String(goal.within ?? goal[keyOf(goal) ?? ''] ?? '')
const steps = computed(() => [
  { value: '', text: 'all requests' },
  ...props.outline.journeys.flatMap((j) => j.steps.map((s) => ({ value: s.name, text: s.name }))),
])
const WHATS: { value: What; text: string }[] = [
  { value: 'time', text: 'percentile' },
  { value: 'mean', text: 'mean response' },
  { value: 'errors', text: 'errors' },
  { value: 'apdex', text: 'Apdex score' },
  { value: 'throughput', text: 'throughput' },
]
const ROLES = [
  { value: 'decides', text: 'decides' },
  { value: 'for information', text: 'for information' },
]
const BEGUN: Record<What, GoalDoc> = {
  time: { p95: '1 s' },
  mean: { mean: '500 ms' },
  errors: { errors: '1 %' },
  apdex: { apdex: 0.85, target: '500 ms' },
  throughput: { throughput: 10 },
}
/** The field that holds the limit, and how what is typed there is read. */
const LIMITS: Record<What, { field: string; label: string; read: (text: string) => unknown }> = {
  time: { field: 'within', label: 'Within', read: (text) => typedDuration(text, '1 s') },
  mean: { field: 'mean', label: 'Within', read: (text) => typedDuration(text, '1 s') },
  errors: { field: 'errors', label: 'At most', read: typedShare },
  apdex: { field: 'target', label: 'T', read: (text) => typedDuration(text, '1 s') },
  throughput: { field: 'throughput', label: 'At least', read: typedRate },
}
function limitOf(goal: GoalDoc): string {
  const what = whatOf(goal)
  if (what === 'time') return within(goal)
  const limit = goal[LIMITS[what].field] ?? ''
  return what === 'throughput' && typeof limit === 'number' ? `${limit} /s` : String(limit)
}
/** What stands over the columns, which are not of one kind where there is a score further down. */
const heads = computed(() => {
  const [first, ...others] = goals.value.map(whatOf)
  return first !== 'apdex' && others.includes('apdex')
    ? { amount: 'Percent, score', limit: 'Limit, T' }
    : { amount: 'Percent', limit: null }
})
const named = (text: string, i: number) => (i ? `${text} of objective ${i + 1}` : text)

function set(index: number, goal: GoalDoc) {
  const told = Object.entries(goal).filter(([, value]) => value !== '' && value !== undefined)
  plan.set(['objectives', index], Object.fromEntries(told))
  plan.commit()
}
/** The same step and role, with these fields instead of what was promised. */
function promise(goal: GoalDoc, fields: GoalDoc): GoalDoc {
  return { step: goal.step, ...fields, role: goal.role }
}
function setLimit(index: number, goal: GoalDoc, text: string) {
  const what = whatOf(goal)
  const value = LIMITS[what].read(text)
  if (what === 'time') set(index, promise(goal, { [`p${percentile(goal)}`]: value }))
  else set(index, { ...goal, [LIMITS[what].field]: value })
}
function setAmount(index: number, goal: GoalDoc, amount: string | number | undefined) {
  if (whatOf(goal) === 'apdex') return set(index, { ...goal, apdex: Number(amount) })
  set(index, promise(goal, { [`p${Number(amount ?? 95)}`]: within(goal) }))
}
function add() {
  if (goals.value.length) plan.insert(['objectives'], goals.value.length, { p95: '1 s' })
  else plan.set(['objectives'], [{ p95: '1 s' }])
  plan.commit()
}
function remove(index: number) {
  if (goals.value.length > 1) plan.remove(['objectives'], index)
  else plan.set(['objectives'], undefined)
  plan.commit()
}
</script>

<template>
  <section aria-label="Objectives">
    <h2 class="mb-1">Objectives</h2>
    <p v-if="!goals.length" class="mb-2 text-ink-2">
      None yet. Without objectives a run finds the saturation point, but no comfort limit.
    </p>
    <div
      v-for="(goal, i) in goals"
      :key="i"
      class="mb-2 grid grid-cols-2 items-start gap-x-3 gap-y-1 sm:grid-cols-[2fr_1.3fr_4.6rem_5.6rem_1.2fr_auto]"
      data-testid="objective"
    >
      <Choice
        :label="i ? `Objective ${i + 1} of` : 'Of'"
        :label-hidden="i > 0"
        :options="steps"
        :model-value="goal.step ?? ''"
        @update:model-value="set(i, { ...goal, step: $event || undefined })"
      />
      <Choice
        :label="named('What', i)"
        :label-hidden="i > 0"
        :options="WHATS"
        :model-value="whatOf(goal)"
        @update:model-value="set(i, promise(goal, BEGUN[($event ?? 'time') as What]))"
      />
      <Field
        v-if="whatOf(goal) === 'time' || whatOf(goal) === 'apdex'"
        :label="named(whatOf(goal) === 'time' ? heads.amount : 'Score', i)"
        :label-hidden="i > 0"
        type="number"
        mono
        :fault="
          plan.faultAt(`objectives[${i}].${whatOf(goal) === 'time' ? 'percentile' : 'apdex'}`)
        "
        :model-value="whatOf(goal) === 'time' ? percentile(goal) : (goal.apdex as number)"
        @update:model-value="setAmount(i, goal, $event)"
      />
      <span v-else class="max-sm:hidden" />
      <Field
        :label="i ? `Limit of objective ${i + 1}` : (heads.limit ?? LIMITS[whatOf(goal)].label)"
        :label-hidden="i > 0"
        mono
        :fault="
          plan.faultAt(`objectives[${i}].${LIMITS[whatOf(goal)].field}`) ??
          plan.faultAt(`objectives[${i}].step`) ??
          plan.faultAt(`objectives[${i}]`)
        "
        :model-value="limitOf(goal)"
        @update:model-value="setLimit(i, goal, String($event ?? ''))"
      />
      <Choice
        :label="named('Role', i)"
        :label-hidden="i > 0"
        :options="ROLES"
        :model-value="String(goal.role ?? 'decides')"
        @update:model-value="set(i, { ...goal, role: $event === 'decides' ? undefined : $event })"
      />
      <Action
        :class="i ? '' : 'sm:mt-[1.15rem]'"
        :aria-label="`Remove objective ${i + 1}`"
        @click="remove(i)"
        >Remove</Action
      >
    </div>
    <div class="mt-2 flex flex-wrap items-end gap-x-6 gap-y-2">
      <Action needs="planner" @click="add">Add an objective</Action>
      <Field
        class="w-56"
        label="Broken once errors stay over"
        mono
        :fault="plan.faultAt('error_limit')"
        :model-value="plan.data.value?.error_limit ?? '5 %'"
        @update:model-value="
          (plan.set(['error_limit'], typedShare(String($event ?? ''))), plan.commit())
        "
      />
    </div>
  </section>
</template>
