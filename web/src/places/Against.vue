<script setup lang="ts">
import { computed } from 'vue'
import { useComparison, type Pooled } from '@/api/queries'
import Loading from '@/ui/Loading.vue'
import Ladder from './run/Ladder.vue'
import OneSide from './run/OneSide.vue'
import Overlay from './run/Overlay.vue'
import Problem from '@/ui/Problem.vue'
import Sentence from '@/ui/Sentence.vue'
import { figure, loadFigure, percent, users, when } from '@/ui/format'

/** One run beside another: the sentence, in what they differ, and each figure as a rung of a ladder against 1. */
const props = defineProps<{ id: number; other: number; pooled: Pooled }>()
const answer = useComparison(
  () => props.id,
  () => props.other,
  () => props.pooled,
)
const pair = computed(() => !props.pooled.run.length && !props.pooled.other.length)
const found = computed(() => answer.data.value)
const load = (value: number) => (found.value?.unit === 'users' ? users(value) : loadFigure(value))
</script>

<template>
  <h1 class="mb-1">
    <RouterLink :to="`/runs/${id}`">Run {{ id }}</RouterLink
    ><template v-for="one in pooled.run" :key="one">, {{ one }}</template> against
    <RouterLink :to="`/runs/${other}`">run {{ other }}</RouterLink
    ><template v-for="one in pooled.other" :key="one">, {{ one }}</template>
  </h1>
  <Loading v-if="answer.isPending.value" what="the comparison" />
  <Problem v-else-if="answer.isError.value" :error="answer.error.value" />
  <div v-else-if="found" class="grid gap-6 lg:grid-cols-[2fr_1fr]">
    <div class="min-w-0">
      <p class="text-[18px]" data-testid="sentence"><Sentence :text="found.sentence" /></p>
      <p class="label mt-1">
        Ratios of {{ pair ? `run ${id} to run ${other}` : 'the one side to the other' }} at
        {{ found.loads.length }} loads that both had ({{ found.loads.map(load).join(', ') }}
        {{ found.unit }}), with 95 % intervals; what stands when all are judged together first.
      </p>
      <Overlay :key="`${id} ${other}`" :found="found" />
      <Ladder :figures="found.figures" :unit="found.unit" />
    </div>
    <aside class="min-w-0 space-y-4">
      <section aria-label="What differs between the two">
        <h2 class="mb-1">What differs between the two</h2>
        <p v-if="!found.apart.length">Nothing that is known: the same plan, described alike.</p>
        <ul class="space-y-1">
          <li
            v-for="one in found.apart"
            :key="one.text"
            class="border-l-2 pl-3 break-words"
            :class="one.weight === 'warning' ? 'border-ochre' : 'border-rule'"
          >
            <span v-if="one.weight === 'warning'" class="label">Caution: </span>
            <span v-else-if="one.weight === 'compared'" class="label">Compared: </span>
            <span v-else class="label">Of no matter: </span>{{ one.text }}
          </li>
        </ul>
      </section>
      <section v-if="found.beside" aria-label="Errors and cost">
        <h2 class="mb-1">Errors and cost</h2>
        <p>
          Failed steps at the loads both had: {{ percent(found.beside.errors.first) }} in run
          {{ other }}, {{ percent(found.beside.errors.second) }} in run {{ id }}.
        </p>
        <p v-if="found.beside.cost">
          A million steps at {{ load(found.beside.load) }} {{ found.unit }} cost
          {{ figure(found.beside.cost.first) }} {{ found.beside.currency }} in run {{ other }},
          {{ figure(found.beside.cost.second) }} {{ found.beside.currency }} in run {{ id }}.
        </p>
        <p v-else class="label">What steps cost is not told: instances have no price.</p>
      </section>
      <section v-for="(run, i) in [found.first, found.second]" :key="run.id">
        <h2 class="text-[15.5px]">
          <RouterLink :to="`/runs/${run.id}`">Run {{ run.id }}</RouterLink>
          <span v-if="run.seeded" class="label"> by the practice twin</span>
          <span v-else-if="run.simulated" class="label"> rehearsal</span>
        </h2>
        <p class="label">{{ run.experiment }}, {{ when(run.queued_at) }}</p>
        <p class="break-words"><Sentence :text="run.verdict" /></p>
        <OneSide
          :run="run"
          :taken="[id, other, ...pooled.run, ...pooled.other]"
          :others="i ? found.others_second : found.others_first"
          :side="i ? 'run' : 'other'"
          :pooled="pooled"
        />
      </section>
    </aside>
  </div>
</template>
