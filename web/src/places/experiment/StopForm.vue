<script setup lang="ts">
import { computed } from 'vue'
import type { PlanOutline } from '@/api/experiments'
import Action from '@/ui/Action.vue'
import Choice from '@/ui/Choice.vue'
import Field from '@/ui/Field.vue'
import { usePlan, type StopDoc } from './plan'
import { typedAmount, typedDuration, typedShare } from './quantities'

/** What ends a run before its load does: errors, slow answers, a busy resource, generators too late, and its budget. */
const props = defineProps<{ outline: PlanOutline }>()
const plan = usePlan()
const rules = computed(() => plan.data.value?.stop_when ?? [])
const budget = computed(() => plan.data.value?.budget ?? {})
const steps = computed(() => [
  { value: '', text: 'all steps' },
  ...props.outline.journeys.flatMap((j) => j.steps.map((s) => ({ value: s.name, text: s.name }))),
])
type What = 'errors' | 'response' | 'utilisation' | 'blur'
const WHATS: { value: What; text: string }[] = [
  { value: 'errors', text: 'errors over' },
  { value: 'response', text: 'mean response over' },
  { value: 'utilisation', text: 'resource busier than' },
  { value: 'blur', text: 'generators late over' },
]
const BEGUN: Record<What, StopDoc> = {
  errors: { errors: '20 %' },
  response: { response: '5 s' },
  utilisation: { utilisation: '95 %' },
  blur: { blur: '20 %' },
}
function whatOf(rule: StopDoc): What {
  return WHATS.map((what) => what.value).find((what) => rule[what] !== undefined) ?? 'errors'
}
/** What a rule may watch: steps, or resources; one that is not known (any more) stays to be seen. */
const resources = (rule: StopDoc) =>
  [...new Set([...props.outline.system.resources, rule.resource ?? ''])]
    .filter(Boolean)
    .map((key) => ({ value: key, text: key }))
const isOfSteps = (rule: StopDoc) => ['errors', 'response'].includes(whatOf(rule))

function become(index: number, rule: StopDoc, what: What) {
  const step = what === 'errors' || what === 'response' ? rule.step : undefined
  const resource = what === 'utilisation' ? props.outline.system.resources[0] : undefined
  set(index, { step, resource, ...BEGUN[what], for: rule.for ?? '10 s' })
}
function limit(index: number, rule: StopDoc, text: string) {
  const what = whatOf(rule)
  set(index, {
    ...rule,
    [what]: what === 'response' ? typedDuration(text, rule.response) : typedShare(text),
  })
}

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
function price(text: string) {
  const told = { ...plan.data.value?.generators }
  if (text.trim()) told.price_per_hour = typedAmount(text)
  else delete told.price_per_hour
  plan.set(['generators'], Object.keys(told).length ? told : undefined)
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
      class="mb-2 grid grid-cols-2 items-end gap-x-3 gap-y-1 sm:grid-cols-[1.5fr_2fr_6rem_6rem_auto]"
      data-testid="stop-rule"
    >
      <Choice
        :label="i ? `When of stop rule ${i + 1}` : 'When'"
        :label-hidden="i > 0"
        :options="WHATS"
        :model-value="whatOf(rule)"
        @update:model-value="become(i, rule, $event as What)"
      />
      <Choice
        v-if="isOfSteps(rule)"
        :label="i ? `Stop rule ${i + 1} watches` : 'Watches'"
        :label-hidden="i > 0"
        :options="steps"
        :model-value="rule.step ?? ''"
        @update:model-value="set(i, { ...rule, step: $event || undefined })"
      />
      <Choice
        v-else-if="whatOf(rule) === 'utilisation'"
        :label="i ? `Stop rule ${i + 1} watches` : 'Watches'"
        :label-hidden="i > 0"
        :options="resources(rule)"
        :model-value="rule.resource ?? ''"
        @update:model-value="set(i, { ...rule, resource: $event })"
      />
      <span v-else class="self-center text-ink-2" :class="i ? '' : 'sm:pt-4'">share of users</span>
      <Field
        :label="i ? `Limit of stop rule ${i + 1}` : 'Limit'"
        :label-hidden="i > 0"
        mono
        :model-value="String(rule[whatOf(rule)] ?? '')"
        @update:model-value="limit(i, rule, String($event ?? ''))"
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
      <Field
        class="w-48"
        :label="`A generator costs, ${outline.currency} an hour`"
        mono
        placeholder="not told"
        :fault="plan.faultAt('generators.price_per_hour')"
        :model-value="plan.data.value?.generators?.price_per_hour"
        @update:model-value="price(String($event ?? ''))"
      />
    </div>
  </section>
</template>
