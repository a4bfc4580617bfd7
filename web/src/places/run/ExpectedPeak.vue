<script setup lang="ts">
import { computed, ref } from 'vue'
import type { Schemas } from '@/api/client'
import type { Fault } from '@/api/problem'
import { useExpectPeak } from '@/api/history'
import Choice from '@/ui/Choice.vue'
import Field from '@/ui/Field.vue'
import Problem from '@/ui/Problem.vue'
import { figure } from '@/ui/format'
import { useRole } from '@/ui/role'

/** The load that is expected at the most: typed in once for the experiment, it is held against each of its runs. */
const props = defineProps<{ run: Schemas['RunDetail'] }>()
type PeakIn = Schemas['RunDetail']['peak_in']
const save = useExpectPeak(props.run.experiment_id)
const { may } = useRole()
const unit = computed(() => props.run.outline.profile.axis.unit)
const units = computed(() => [
  { value: 'load', text: unit.value },
  { value: 'throughput', text: 'steps/s' },
])
const fault = ref<Fault>()
const amount = computed({
  get: () => props.run.peak ?? undefined,
  set: (given: string | number | undefined) => {
    const wrong = given !== undefined && !(Number(given) > 0)
    fault.value = wrong
      ? {
          path: 'amount',
          message: `${given} is no load.`,
          mend: 'Write a number above 0, or nothing.',
        }
      : undefined
    if (!wrong)
      save.mutate({
        amount: given === undefined ? null : Number(given),
        told_in: props.run.peak_in,
      })
  },
})
function tellIn(given: string | undefined) {
  save.mutate({ amount: props.run.peak, told_in: (given ?? 'load') as PeakIn })
}
</script>

<template>
  <section class="border-t border-rule pt-2" data-testid="expected-peak">
    <div v-if="may('planner')" class="flex items-start gap-2">
      <Field
        v-model="amount"
        class="w-40"
        type="number"
        label="Expected at the peak"
        :fault="fault"
        :placeholder="run.peak === null ? 'how much?' : undefined"
      />
      <Choice
        class="w-32"
        :model-value="run.peak_in"
        label="Told in"
        :options="units"
        @update:model-value="tellIn"
      />
    </div>
    <p v-else-if="run.peak !== null" class="label">
      Expected at the peak: {{ figure(run.peak) }} {{ run.peak_in === 'load' ? unit : 'steps/s' }}.
    </p>
    <p v-if="run.peak === null && may('planner')" class="label">
      Type what the system has to bear, and every run of this experiment says how much room there is
      above it.
    </p>
    <Problem v-if="save.isError.value" :error="save.error.value" />
  </section>
</template>
