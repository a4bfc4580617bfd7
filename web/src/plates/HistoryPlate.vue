<script setup lang="ts">
import { useElementSize } from '@vueuse/core'
import { computed, ref } from 'vue'
import type { FigureHistory, History } from '@/api/history'
import { dateTicks, marksOf, reachOf, stripsOf, told } from './history'
import { loadTicks } from './terrain'

/** A shore line: runs along time with their intervals, the scatter of single runs as a strip of silt that steps where
 * the figure shifted, and what was changed there. */
const props = defineProps<{ history: History; shown: FigureHistory; pointed: number | null }>()
const emit = defineEmits<{ point: [run: number | null]; open: [run: number] }>()
const HEIGHT = 330
const [TOP, BOTTOM, LEFT, RIGHT] = [64, 30, 74, 24]
const LINE_PX = 15

const box = ref<HTMLElement | null>(null)
const { width: measured } = useElementSize(box)
const width = computed(() => Math.max(280, measured.value))
const marks = computed(() => marksOf(props.history, props.shown))
const strips = computed(() => stripsOf(marks.value, props.shown))
const reach = computed(() => reachOf(marks.value, strips.value))
const times = computed(() => {
  const at = props.history.runs.map((run) => Date.parse(run.at))
  const [first, last] = [Math.min(...at), Math.max(...at)]
  const room = 0.02 * (last - first) || 3_600_000
  return [first - room, last + room] as const
})
const x = (at: number) =>
  LEFT + ((at - times.value[0]) / (times.value[1] - times.value[0])) * (width.value - LEFT - RIGHT)
const y = (value: number) =>
  TOP + (1 - (value - reach.value[0]) / (reach.value[1] - reach.value[0])) * (HEIGHT - TOP - BOTTOM)
const ticks = computed(() => dateTicks(...times.value, Math.max(2, Math.floor(width.value / 90))))
const levels = computed(() =>
  loadTicks(reach.value[1], 5).filter((v) => v >= reach.value[0] && v <= reach.value[1]),
)
/** What was changed at the runs where something shifted, each on the first line with room for it. */
const flags = computed(() => {
  const ends = [0, 0, 0]
  return props.history.events.map((event) => {
    const at = x(Date.parse(event.at))
    const remark = props.history.runs.find((run) => run.id === event.run)?.remark
    const text = inShort(event.different.join(', ') || remark || `run ${event.run}`)
    const length = text.length * 6.6
    const before = at + length > width.value - 4
    const begin = before ? at - length : at
    const line = Math.max(
      0,
      ends.findIndex((end) => end <= begin),
    )
    ends[line] = (before ? at : at + length) + 12
    return { run: event.run, at, text, before, line, own: props.shown.shifted.includes(event.run) }
  })
})
function inShort(text: string) {
  return text.length > 60 ? `${text.slice(0, 59)}…` : text
}
const summary = computed(
  () =>
    `${props.shown.name} over ${marks.value.length} runs, ${props.shown.shifted.length} shifts; each value is in the table below.`,
)
</script>

<template>
  <div ref="box" data-testid="shore">
    <svg :width="width" :height="HEIGHT" role="img" :aria-label="summary" class="block">
      <g v-for="level in levels" :key="level">
        <line :x1="LEFT" :x2="width - RIGHT" :y1="y(level)" :y2="y(level)" stroke="var(--rule)" />
        <text :x="LEFT - 8" :y="y(level) + 4" text-anchor="end" class="plate-text">
          {{ told(level, shown, history) }}
        </text>
      </g>
      <g v-for="tick in ticks" :key="tick.at">
        <line
          :x1="x(tick.at)"
          :x2="x(tick.at)"
          :y1="HEIGHT - BOTTOM"
          :y2="HEIGHT - BOTTOM + 5"
          stroke="var(--ink-2)"
        />
        <text :x="x(tick.at)" :y="HEIGHT - 8" text-anchor="middle" class="plate-text">
          {{ tick.text }}
        </text>
      </g>
      <g v-for="(strip, i) in strips" :key="i">
        <rect
          :x="x(strip.from)"
          :width="Math.max(2, x(strip.until) - x(strip.from))"
          :y="y(strip.high)"
          :height="Math.max(1, y(strip.low) - y(strip.high))"
          fill="var(--silt)"
          opacity="0.4"
        />
        <line
          :x1="x(strip.from)"
          :x2="x(strip.until)"
          :y1="y(strip.level)"
          :y2="y(strip.level)"
          stroke="var(--ink-2)"
        />
      </g>
      <g v-for="flag in flags" :key="flag.run" data-testid="flag">
        <line
          :x1="flag.at"
          :x2="flag.at"
          :y1="4 + flag.line * LINE_PX"
          :y2="HEIGHT - BOTTOM"
          :stroke="flag.own ? 'var(--ink-2)' : 'var(--rule)'"
          stroke-dasharray="2 4"
        />
        <text
          :x="flag.before ? flag.at - 4 : flag.at + 4"
          :y="14 + flag.line * LINE_PX"
          :text-anchor="flag.before ? 'end' : 'start'"
          class="plate-text"
          :class="{ told: flag.own }"
        >
          {{ flag.text }}
        </text>
      </g>
      <g
        v-for="mark in marks"
        :key="mark.run"
        class="cursor-pointer"
        @mouseenter="emit('point', mark.run)"
        @mouseleave="emit('point', null)"
        @click="emit('open', mark.run)"
      >
        <rect :x="x(mark.at) - 6" :y="TOP" width="12" :height="HEIGHT - TOP - BOTTOM" opacity="0" />
        <line
          :x1="x(mark.at)"
          :x2="x(mark.at)"
          :y1="y(mark.high)"
          :y2="y(mark.low)"
          stroke="var(--copper)"
        />
        <circle
          :cx="x(mark.at)"
          :cy="y(mark.value)"
          :r="pointed === mark.run ? 6 : 4"
          :fill="mark.seeded ? 'var(--paper)' : 'var(--copper)'"
          stroke="var(--copper)"
          stroke-width="1.5"
        />
        <text
          v-if="mark.baseline"
          :x="x(mark.at)"
          :y="HEIGHT - BOTTOM - 6"
          text-anchor="middle"
          class="plate-text"
        >
          baseline
        </text>
        <text
          v-if="pointed === mark.run"
          :x="x(mark.at)"
          :y="y(mark.high) - 8"
          :text-anchor="x(mark.at) > width - 140 ? 'end' : 'middle'"
          class="plate-text told"
        >
          run {{ mark.run }}: {{ told(mark.value, shown, history) }}
        </text>
      </g>
    </svg>
  </div>
</template>
