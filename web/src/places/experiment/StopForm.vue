<script setup lang="ts">
import { computed } from 'vue'
import type { PlanOutline } from '@/api/experiments'
import Action from '@/ui/Action.vue'
import Choice from '@/ui/Choice.vue'
import Field from '@/ui/Field.vue'
import { usePlan, type StopDoc } from './plan'
import { typedAmount, typedDuration, typedShare } from './quantities'

/** What ends a run before its load does: errors, slow answers, and what it may cost. */
const props = defineProps<{ outline: PlanOutline }>()
const plan = usePlan()
const rules = computed(() => plan.data.value?.stop_when ?? [])
const budget = computed(() => plan.data.value?.budget ?? {})
const steps = computed(() => [
  { value: '', text: 'all steps' },
  ...props.outline.journeys.flatMap((j) => j.steps.map((s) => ({ value: s.name, text: s.name }))),
])
const whats = [
  { value: 'errors', text: 'errors over' },
  { value: 'response', text: 'mean response over' },
]
const isErrors = (rule: StopDoc) => rule.response === undefined

function set(index: number, rule: StopDoc) {
  const told = Object.fromEntries(Object.entries(rule).filter(([, value]) => value))
  plan.set(['stop_when', index], told)
  plan.commit()
}
function add() {
  const rule = { errors: '20 %', for: '30 s' }
  if (rules.value.length) plan.insert(['stop_when'], rules.value.length, rule)
  else plan.set(['stop_when'], [rule])
  plan.commit()
}
function remove(index: number) {
  if (rules.value.length > 1) plan.remove(['stop_when'], index)
  else plan.set(['stop_when'], undefined)
  plan.commit()
}
function spend(change: { time?: string; money?: number | string }) {
  const told = Object.entries({ ...budget.value, ...change }).filter(([, value]) => value !== '')
  plan.set(['budget'], told.length ? Object.fromEntries(told) : undefined)
  plan.commit()
}
</script>

<template>
  <section aria-label="Stop rules">
    <h2 class="mb-1">Ends early</h2>
    <p v-if="!rules.length" class="mb-2 text-ink-2">
      Never by itself: the load goes to its end whatever becomes of the system.
    </p>
    <div
      v-for="(rule, i) in rules"
      :key="i"
      class="mb-2 grid grid-cols-2 items-end gap-x-3 gap-y-1 sm:grid-cols-[2fr_1.5fr_6rem_6rem_auto]"
      data-testid="stop-rule"
    >
      <Choice
        :label="i ? `Stop rule ${i + 1} watches` : 'Watches'"
        :label-hidden="i > 0"
        :options="steps"
        :model-value="rule.step ?? ''"
        @update:model-value="set(i, { ...rule, step: $event || undefined })"
      />
      <Choice
        :label="i ? `What of stop rule ${i + 1}` : 'For'"
        :label-hidden="i > 0"
        :options="whats"
        :model-value="isErrors(rule) ? 'errors' : 'response'"
        @update:model-value="
          set(i, {
            ...rule,
            errors: $event === 'errors' ? '20 %' : undefined,
            response: $event === 'errors' ? undefined : '5 s',
          })
        "
      />
      <Field
        :label="i ? `Limit of stop rule ${i + 1}` : 'Limit'"
        :label-hidden="i > 0"
        mono
        :model-value="isErrors(rule) ? rule.errors : rule.response"
        @update:model-value="
          set(i, {
            ...rule,
            ...(isErrors(rule)
              ? { errors: typedShare(String($event ?? '')) }
              : { response: typedDuration(String($event ?? ''), rule.response) }),
          })
        "
      />
      <Field
        :label="i ? `Over how long, stop rule ${i + 1}` : 'Over'"
        :label-hidden="i > 0"
        mono
        :model-value="rule.for ?? '10 s'"
        @update:model-value="
          set(i, { ...rule, for: typedDuration(String($event ?? ''), rule.for) })
        "
      />
      <Action :aria-label="`Remove stop rule ${i + 1}`" @click="remove(i)">Remove</Action>
      <p
        v-if="plan.faultBelow(`stop_when[${i}]`)"
        class="col-span-full text-[13px] text-brick"
        role="alert"
      >
        ✕ {{ plan.faultBelow(`stop_when[${i}]`)?.message }}
        {{ plan.faultBelow(`stop_when[${i}]`)?.mend }}
      </p>
    </div>
    <div class="mt-2 flex flex-wrap items-end gap-x-6 gap-y-2">
      <Action needs="planner" @click="add">Add a stop rule</Action>
      <Field
        class="w-40"
        label="Takes at most"
        mono
        placeholder="no limit"
        :fault="plan.faultAt('budget.time')"
        :model-value="budget.time"
        @update:model-value="spend({ time: $event ? typedDuration(String($event), '1 min') : '' })"
      />
      <Field
        class="w-40"
        :label="`Costs at most, ${outline.currency}`"
        mono
        placeholder="no limit"
        :fault="plan.faultAt('budget.money')"
        :model-value="budget.money"
        @update:model-value="spend({ money: $event ? typedAmount(String($event)) : '' })"
      />
    </div>
  </section>
</template>
