<script setup lang="ts">
import { computed } from 'vue'
import Choice from '@/ui/Choice.vue'
import Field from '@/ui/Field.vue'
import { usePlan } from './plan'

/** One override for the think times of all journeys. */
const plan = usePlan()
const waits = computed(() => plan.data.value?.waits ?? {})
const way = computed(() =>
  waits.value.factor !== undefined ? 'factor' : waits.value.think ? 'think' : 'own',
)
const laws = [
  { value: 'fixed', text: 'fixed' },
  { value: 'exponential', text: 'exponential' },
  { value: 'lognormal', text: 'log-normal' },
  { value: 'uniform', text: 'uniform' },
]
const law = computed(() => {
  const word = String(waits.value.think ?? '').split(' ')[0] ?? ''
  return laws.some((l) => l.value === word) ? word : 'fixed'
})
const time = computed(() => String(waits.value.think ?? '').replace(/^[a-z]+ /, ''))

function set(value: unknown) {
  plan.set(['waits'], value)
  plan.commit()
}
function choose(next: string | undefined) {
  set(next === 'factor' ? { factor: 1 } : next === 'think' ? { think: '2 s' } : undefined)
}
function setThink(nextLaw: string, nextTime: string) {
  const uniform = nextLaw === 'uniform' && !nextTime.includes(' to ')
  const whole = uniform ? `${nextTime} to ${nextTime}` : nextTime
  const bare = nextLaw === 'uniform' ? whole : (whole.split(' to ')[0] ?? '')
  set({ think: nextLaw === 'fixed' ? bare : `${nextLaw} ${bare}` })
}
</script>

<template>
  <section class="space-y-2" aria-label="Think times">
    <h2>Think times</h2>
    <div class="grid gap-3 sm:grid-cols-3">
      <Choice
        label="Of all journeys"
        :options="[
          { value: 'own', text: 'as the journeys say' },
          { value: 'factor', text: 'times a factor' },
          { value: 'think', text: 'one for all steps' },
        ]"
        :model-value="way"
        @update:model-value="choose"
      />
      <Field
        v-if="way === 'factor'"
        label="Factor"
        type="number"
        :fault="plan.faultBelow('waits')"
        :model-value="waits.factor"
        @update:model-value="set({ factor: Number($event ?? 1) })"
      />
      <template v-else-if="way === 'think'">
        <Choice
          label="Law"
          :options="laws"
          :model-value="law"
          @update:model-value="setThink($event ?? 'fixed', time)"
        />
        <Field
          :label="law === 'uniform' ? 'From … to …' : law === 'fixed' ? 'Time' : 'Mean'"
          mono
          placeholder="2 s"
          :fault="plan.faultBelow('waits')"
          :model-value="time"
          @update:model-value="setThink(law, String($event ?? ''))"
        />
      </template>
    </div>
    <p v-if="waits.factor === 0" class="text-[13.5px]">
      <span class="text-ochre">◐</span> Without waits users click without looking: a few of them
      load the system like many people would.
    </p>
  </section>
</template>
