<script setup lang="ts">
import { computed, ref } from 'vue'
import type { Schemas } from '@/api/client'
import { loadFigure, percent, seconds, signed, users } from '@/ui/format'

/** Figures of two sides as rungs of a ladder against 1, those that stand when all are judged together first. */
type Line = Schemas['FigureLine']
const props = defineProps<{ figures: Line[]; unit: string; same?: string }>()
/** What stands there at first; the others are more of the same. */
const FIRST = ['mean', 'p95', 'demand', 'held', 'throughput']
const every = ref(false)
const lines = computed(() =>
  props.figures.filter((line) => every.value || FIRST.includes(line.figure)),
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
  return `by itself ${line.ratio.value > 1 ? 'more' : 'less'}; may be chance among ${props.figures.length}`
}
const subject = (line: Line) => line.subject.split(' / ').at(-1)?.replace('.', ' ') ?? ''
const NAMES: Record<string, string> = { demand: 'busy per step', held: 'held per step' }
const figureName = (line: Line) => NAMES[line.figure] ?? line.figure
const told = (line: Line, value: number | undefined) =>
  line.figure === 'throughput' ? `${loadFigure(value)} /s` : seconds(value)
const load = (value: number) => (props.unit === 'users' ? users(value) : loadFigure(value))
</script>

<template>
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
              >{{ tick === 1 ? (same ?? 'as before') : signed(tick) }}</span
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
</template>
