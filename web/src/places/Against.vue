<script setup lang="ts">
import { computed, ref } from 'vue'
import type { Schemas } from '@/api/client'
import { useComparison, type Pooled } from '@/api/queries'
import Loading from '@/ui/Loading.vue'
import OneSide from './run/OneSide.vue'
import Overlay from './run/Overlay.vue'
import Problem from '@/ui/Problem.vue'
import Sentence from '@/ui/Sentence.vue'
import { figure, loadFigure, percent, seconds, signed, users, when } from '@/ui/format'

/** One run beside another: the sentence, in what they differ, and each figure as a rung of a ladder against 1. */
const props = defineProps<{ id: number; other: number; pooled: Pooled }>()
const answer = useComparison(
  () => props.id,
  () => props.other,
  () => props.pooled,
)
const pair = computed(() => !props.pooled.run.length && !props.pooled.other.length)
type Line = Schemas['FigureLine']
const found = computed(() => answer.data.value)
/** What stands there at first; the others are more of the same. */
const FIRST = ['mean', 'p95', 'demand', 'held', 'throughput']
const every = ref(false)
const lines = computed(() =>
  (found.value?.figures ?? []).filter((line) => every.value || FIRST.includes(line.figure)),
)
/** The ladder's ends: the widest interval that is not out of all proportion, to both sides alike. */
const reach = computed(() => {
  const ends = lines.value.flatMap((l) => [Math.log(l.ratio.high), -Math.log(l.ratio.low)])
  return Math.min(Math.log(3), Math.max(Math.log(1.1), ...ends))
})
const place = (ratio: number) =>
  50 + (50 * Math.min(reach.value, Math.max(-reach.value, Math.log(ratio)))) / reach.value
const ticks = computed(() => {
  const most = Math.expm1(reach.value)
  const step = [0.02, 0.05, 0.1, 0.2, 0.5, 1].find((s) => most / s < 3) ?? 1
  return Array.from({ length: Math.floor(most / step) }, (_, i) => 1 + step * (i + 1)).flatMap(
    // One at the very edge would run into the next column.
    (up) => (Math.log(up) < 0.85 * reach.value ? [1 / up, up] : []),
  )
})
const MARKS: Record<string, string> = {
  slower: '✕',
  faster: '○',
  'no difference': '–',
  inconclusive: '?',
}
const verdictOf = (line: Line) => (line.stands || line.verdict.startsWith('no') ? line.verdict : '')
function words(line: Line): string {
  if (line.stands && line.figure in NAMES) return line.ratio.value > 1 ? 'more' : 'less'
  if (line.stands) return line.verdict
  if (line.verdict === 'no difference') return `no difference over ${percent(line.unseen)}`
  if (line.verdict === 'inconclusive') return `inconclusive: under ${percent(line.unseen)}`
  return `by itself ${line.ratio.value > 1 ? 'more' : 'less'}; may be chance among ${found.value?.figures.length}`
}
const subject = (line: Line) => line.subject.split(' / ').at(-1)?.replace('.', ' ') ?? ''
const NAMES: Record<string, string> = { demand: 'busy per step', held: 'held per step' }
const figureName = (line: Line) => NAMES[line.figure] ?? line.figure
const told = (line: Line, value: number | undefined) =>
  line.figure === 'throughput' ? `${loadFigure(value)} /s` : seconds(value)
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
      <table class="mt-3 w-full" data-testid="ladder">
        <thead>
          <tr>
            <th>Figure</th>
            <th class="w-[45%]">
              <span class="relative block h-4">
                <span
                  v-for="tick in [1, ...ticks]"
                  :key="tick"
                  class="figures absolute -translate-x-1/2 text-[12px] whitespace-nowrap text-ink-2"
                  :style="{ left: `${place(tick)}%` }"
                  >{{ tick === 1 ? 'as before' : signed(tick) }}</span
                >
              </span>
            </th>
            <th>Change</th>
            <th>Verdict</th>
          </tr>
        </thead>
        <tbody>
          <tr
            v-for="line in lines"
            :key="line.subject + line.figure"
            :title="
              line.by_load.load
                .map(
                  (at, i) =>
                    `${load(at)}: ${told(line, line.by_load.first[i])} → ${told(line, line.by_load.second[i])}`,
                )
                .join('\n')
            "
          >
            <td class="break-words">
              {{ subject(line) }} <span class="text-ink-2">{{ figureName(line) }}</span>
            </td>
            <td>
              <span class="relative block h-5">
                <span class="absolute inset-y-0 w-px bg-ink-2" style="left: 50%" />
                <span
                  class="absolute top-2 h-1"
                  :class="line.stands ? 'bg-ink' : 'bg-silt'"
                  :style="{
                    left: `${place(line.ratio.low)}%`,
                    width: `${Math.max(0.4, place(line.ratio.high) - place(line.ratio.low))}%`,
                  }"
                />
                <span
                  class="absolute top-1 h-3 w-1 -translate-x-1/2"
                  :class="line.stands ? 'bg-copper' : 'bg-ink-2'"
                  :style="{ left: `${place(line.ratio.value)}%` }"
                />
              </span>
            </td>
            <td class="figures whitespace-nowrap">
              {{ signed(line.ratio.value) }}
              <span class="block text-ink-2"
                >{{ signed(line.ratio.low) }} to {{ signed(line.ratio.high) }}</span
              >
            </td>
            <td>
              <span aria-hidden="true">{{ MARKS[verdictOf(line)] ?? '·' }}</span>
              {{ words(line).replace(/ %$/, '\u00a0%') }}
            </td>
          </tr>
        </tbody>
      </table>
      <label class="mt-3 flex items-center gap-2"
        ><input v-model="every" type="checkbox" /> also medians and 99th percentiles</label
      >
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
