<script setup lang="ts">
import type { CapacityAnswer } from '@/api/capacity'
import Grade from '@/ui/Grade.vue'
import Sentence from '@/ui/Sentence.vue'
import { percent, seconds } from '@/ui/format'

/** What the plan comes to in sentences: the answer, the objectives at the peak, and what nobody knows. */
const props = defineProps<{ answer: CapacityAnswer; working: boolean }>()
type Goal = CapacityAnswer['goals'][number]
const amount = (goal: Goal, value: number) =>
  goal.unit === 's' ? seconds(value) : value.toFixed(2)
/** How a goal stands at the high end of its interval, which is where a plan has to hold. */
function grade(goal: Goal): string {
  const { low, high } = goal.judged_lost
  const worse = goal.unit === 's' ? high > goal.limit : low < goal.limit
  const better = goal.unit === 's' ? low <= goal.limit : high >= goal.limit
  return worse ? (better ? 'strained' : 'broken') : 'holds'
}
const between = (goal: Goal) =>
  `${amount(goal, goal.judged_lost.low)} to ${amount(goal, goal.judged_lost.high)}`
const planned = () => props.answer.per_hour !== null
</script>

<template>
  <section aria-label="The answer" class="space-y-2 border-t border-rule pt-3">
    <p class="label">
      <Grade :grade="answer.note.grade" />
      <span v-if="working" role="status"> · working it out anew …</span>
    </p>
    <h2 class="text-[19px]" data-testid="capacity-title"><Sentence :text="answer.note.title" /></h2>
    <p data-testid="capacity-text"><Sentence :text="answer.note.text" /></p>
    <p v-for="line in answer.note.details" :key="line"><Sentence :text="line" /></p>
    <p class="text-[13.5px] text-ink-2">
      Rests on
      <template v-for="(run, i) in answer.rests_on" :key="run"
        ><RouterLink :to="`/runs/${run}`">run {{ run }}</RouterLink
        >{{ i < answer.rests_on.length - 1 ? ', ' : '' }}</template
      >. Every resource at 85 % of its capacity at most.
    </p>
  </section>
  <section v-if="answer.goals.length" aria-label="Objectives" class="border-t border-rule pt-3">
    <h2 class="text-[15.5px]">
      Objectives at the peak<template v-if="!planned()">, as it is now</template>
    </h2>
    <p v-if="answer.lost" class="label">With one {{ answer.lost }} lost.</p>
    <ul class="mt-1 space-y-1.5">
      <li v-for="goal in answer.goals" :key="goal.text">
        <Grade :grade="grade(goal)" wordless /> {{ goal.text }}:
        <span class="figures whitespace-nowrap">{{ amount(goal, goal.judged_lost.value) }}</span>
        <span class="block text-[13px] text-ink-2">90 % interval {{ between(goal) }}</span>
      </li>
    </ul>
    <p v-if="answer.not_judged.length" class="label mt-1">
      Not foretold: {{ answer.not_judged.join('; ') }}.
    </p>
  </section>
  <section aria-label="What nobody knows" class="border-t border-rule pt-3">
    <h2 class="text-[15.5px]">What the plan cannot know</h2>
    <ul class="mt-1 list-disc space-y-1 pl-5 text-[13.5px]">
      <li v-for="line in answer.unknown" :key="line"><Sentence :text="line" /></li>
      <li v-if="!answer.goals.length">
        No objective on response times or Apdex stands in the run: only utilisation counts ({{
          percent(0.85)
        }}
        at most).
      </li>
    </ul>
  </section>
</template>
