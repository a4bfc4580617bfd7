<script setup lang="ts">
import { computed } from 'vue'
import { useRouter } from 'vue-router'
import type { Schemas } from '@/api/client'
import { useMakeTrial, useTrials } from '@/api/capacity'
import Action from '@/ui/Action.vue'
import Problem from '@/ui/Problem.vue'
import Sentence from '@/ui/Sentence.vue'
import { loadFigure, percent, seconds, when } from '@/ui/format'

/** Experiments that confirm the plan or break it, and what was foretold then beside what came of it. */
const props = defineProps<{ id: number; archived: boolean }>()
const router = useRouter()
const trials = useTrials(() => props.id)
const make = useMakeTrial(props.id)
const found = computed(() => trials.data.value?.trials ?? [])

type Goal = Schemas['TriedGoal']
const amount = (goal: Goal, value: number) =>
  goal.unit === 's' ? seconds(value) : value.toFixed(2)
const foretold = (goal: Goal) =>
  `${amount(goal, goal.judged.value)} (${amount(goal, goal.judged.low)} to ${amount(goal, goal.judged.high)})`
async function tryIt() {
  const made = await make.mutateAsync().catch(() => null)
  if (made) await router.push(`/experiments/${made.experiment_id}`)
}
</script>

<template>
  <section aria-label="Trials" class="space-y-2 border-t border-rule pt-3" data-testid="trials">
    <h2 class="text-[15.5px]">Trials</h2>
    <p v-if="!found.length" class="text-[13.5px] text-ink-2">
      Not tried yet. A trial is an experiment that goes to the peak with the instances of the plan;
      what was foretold then stands beside what comes of it.
    </p>
    <p v-if="trials.data.value?.off != null" class="text-[13.5px]">
      What was foretold of objectives was off by {{ percent(trials.data.value.off) }} in the median.
    </p>
    <Problem v-if="trials.isError.value" :error="trials.error.value" />
    <Problem v-if="make.isError.value" :error="make.error.value" />
    <div v-for="trial in found" :key="trial.id" class="space-y-1 text-[13.5px]" data-testid="trial">
      <p>
        <RouterLink :to="`/experiments/${trial.experiment_id}`">{{ trial.experiment }}</RouterLink>
        <span class="label ml-2"
          >{{ loadFigure(trial.users) }} users, {{ when(trial.made_at) }}</span
        >
      </p>
      <p v-if="trial.run === null" class="text-ink-2">Not run yet.</p>
      <template v-else>
        <p v-if="trial.otherwise" class="text-ochre"><Sentence :text="trial.otherwise" /></p>
        <p>
          <RouterLink :to="`/runs/${trial.run}`">Run {{ trial.run }}</RouterLink> at the peak:
        </p>
        <table class="w-full">
          <thead>
            <tr class="label border-b border-rule text-left">
              <th class="py-1 pr-2 font-normal" scope="col">What</th>
              <th class="py-1 pr-2 text-right font-normal" scope="col">Foretold</th>
              <th class="py-1 text-right font-normal" scope="col">Was</th>
            </tr>
          </thead>
          <tbody>
            <tr v-for="goal in trial.goals" :key="goal.number" class="border-b border-rule">
              <th class="py-1 pr-2 text-left text-[13px] font-normal text-ink" scope="row">
                {{ goal.text }}
              </th>
              <td class="figures py-1 pr-2 text-right">{{ foretold(goal) }}</td>
              <td class="figures py-1 text-right whitespace-nowrap">
                {{ goal.seen === null ? '–' : amount(goal, goal.seen) }}
                <span
                  v-if="goal.within !== null"
                  :class="goal.within ? 'text-moss' : 'text-ochre'"
                  class="block"
                  >{{ goal.within ? '○ as foretold' : '◐ outside' }}</span
                >
              </td>
            </tr>
            <tr v-for="use in trial.uses" :key="use.resource" class="border-b border-rule">
              <th class="py-1 pr-2 text-left text-[13px] font-normal text-ink" scope="row">
                <Sentence :text="use.resource" />
              </th>
              <td class="figures py-1 pr-2 text-right">{{ percent(use.use.value) }}</td>
              <td class="figures py-1 text-right">{{ percent(use.seen) }}</td>
            </tr>
          </tbody>
        </table>
      </template>
    </div>
    <Action
      needs="planner"
      :busy="make.isPending.value"
      :disabled="archived || make.isPending.value"
      @click="tryIt"
      >Make the experiment that tries it</Action
    >
  </section>
</template>
