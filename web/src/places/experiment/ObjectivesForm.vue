<script setup lang="ts">
import { computed } from 'vue'
import type { PlanOutline } from '@/api/experiments'
import Action from '@/ui/Action.vue'
import Choice from '@/ui/Choice.vue'
import Field from '@/ui/Field.vue'
import { usePlan, type GoalDoc } from './plan'
import { typedDuration, typedShare } from './quantities'

/** What shall hold: percentiles of response times, and shares of errors. */
const props = defineProps<{ outline: PlanOutline }>()
const plan = usePlan()
const goals = computed(() => plan.data.value?.objectives ?? [])
const KEY = /^p([1-9][0-9](?:\.[0-9])?)$/
const keyOf = (goal: GoalDoc) => Object.keys(goal).find((key) => KEY.test(key))
const isTime = (goal: GoalDoc) => goal.errors === undefined
const percentile = (goal: GoalDoc) => goal.percentile ?? Number(keyOf(goal)?.slice(1) ?? 95)
const within = (goal: GoalDoc) => String(goal.within ?? goal[keyOf(goal) ?? ''] ?? '')
const steps = computed(() => [
  { value: '', text: 'all requests' },
  ...props.outline.journeys.flatMap((j) => j.steps.map((s) => ({ value: s.name, text: s.name }))),
])
const whats = [
  { value: 'time', text: 'response time' },
  { value: 'errors', text: 'errors' },
]

function set(index: number, goal: GoalDoc) {
  plan.set(['objectives', index], goal)
  plan.commit()
}
function told(
  goal: GoalDoc,
  change: { step?: string; p?: number; within?: string; errors?: string },
) {
  const step = change.step ?? goal.step
  const where = step ? { step } : {}
  if (change.errors !== undefined) return { ...where, errors: change.errors }
  if (change.p === undefined && change.within === undefined && !isTime(goal))
    return { ...where, errors: goal.errors }
  return { ...where, [`p${change.p ?? percentile(goal)}`]: change.within ?? within(goal) }
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
      class="mb-2 grid grid-cols-2 items-start gap-x-3 gap-y-1 sm:grid-cols-[2fr_1.3fr_5rem_6rem_auto]"
      data-testid="objective"
    >
      <Choice
        :label="i ? `Objective ${i + 1} of` : 'Of'"
        :label-hidden="i > 0"
        :options="steps"
        :model-value="goal.step ?? ''"
        @update:model-value="set(i, told(goal, { step: $event ?? '' }))"
      />
      <Choice
        :label="i ? `What of objective ${i + 1}` : 'What'"
        :label-hidden="i > 0"
        :options="whats"
        :model-value="isTime(goal) ? 'time' : 'errors'"
        @update:model-value="
          set(
            i,
            $event === 'errors'
              ? told(goal, { errors: '1 %' })
              : told(goal, { p: 95, within: '1 s' }),
          )
        "
      />
      <Field
        v-if="isTime(goal)"
        :label="i ? `Percent of objective ${i + 1}` : 'Percent'"
        :label-hidden="i > 0"
        type="number"
        mono
        :fault="plan.faultAt(`objectives[${i}].percentile`)"
        :model-value="percentile(goal)"
        @update:model-value="set(i, told(goal, { p: Number($event ?? 95) }))"
      />
      <span v-else :class="i ? '' : 'pt-5'" class="label self-center">at most</span>
      <Field
        v-if="isTime(goal)"
        :label="i ? `Limit of objective ${i + 1}` : 'Within'"
        :label-hidden="i > 0"
        mono
        :fault="plan.faultAt(`objectives[${i}].within`) ?? plan.faultAt(`objectives[${i}].step`)"
        :model-value="within(goal)"
        @update:model-value="
          set(i, told(goal, { within: typedDuration(String($event ?? ''), within(goal)) }))
        "
      />
      <Field
        v-else
        :label="i ? `Limit of objective ${i + 1}` : 'Limit'"
        :label-hidden="i > 0"
        mono
        :fault="plan.faultAt(`objectives[${i}].errors`) ?? plan.faultAt(`objectives[${i}].step`)"
        :model-value="goal.errors"
        @update:model-value="set(i, told(goal, { errors: typedShare(String($event ?? '')) }))"
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
