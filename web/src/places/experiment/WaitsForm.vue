<script setup lang="ts">
import { computed } from 'vue'
import Choice from '@/ui/Choice.vue'
import Field from '@/ui/Field.vue'
import { canBeSet, waitsOf, withWaits } from './waits'

/** One override for the think times of all journeys, set in the plan's text. */
const source = defineModel<string>({ required: true })
const waits = computed(() => waitsOf(source.value))
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
  const word = waits.value.think?.split(' ')[0] ?? ''
  return laws.some((l) => l.value === word) ? word : 'fixed'
})
const time = computed(() => (waits.value.think ?? '').replace(/^[a-z]+ /, ''))

function choose(next: string | undefined) {
  const set = next === 'factor' ? { factor: 1 } : next === 'think' ? { think: '2 s' } : {}
  source.value = withWaits(source.value, set)
}
function setThink(nextLaw: string, nextTime: string) {
  const uniform = nextLaw === 'uniform' && !nextTime.includes(' to ')
  const whole = uniform ? `${nextTime} to ${nextTime}` : nextTime
  const bare = nextLaw === 'uniform' ? whole : whole.split(' to ')[0]
  source.value = withWaits(source.value, {
    think: nextLaw === 'fixed' ? bare : `${nextLaw} ${bare}`,
  })
}
</script>

<template>
  <section v-if="canBeSet(source)" class="space-y-2" aria-label="Waits">
    <h2>Waits</h2>
    <Choice
      label="Think times of all journeys"
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
      :model-value="waits.factor"
      @update:model-value="source = withWaits(source, { factor: Number($event ?? 1) })"
    />
    <div v-else-if="way === 'think'" class="grid gap-3 sm:grid-cols-2">
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
        :model-value="time"
        @update:model-value="setThink(law, String($event ?? ''))"
      />
    </div>
    <p v-if="waits.factor === 0" class="text-[13.5px]">
      <span class="text-ochre">◐</span> Without waits users click without looking: a few of them
      load the system like many people would.
    </p>
  </section>
</template>
