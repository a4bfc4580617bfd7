<script setup lang="ts">
import { useElementSize } from '@vueuse/core'
import { computed, ref } from 'vue'
import { clock, loadFigure, signed } from '@/ui/format'
import { drawn, near, ratiosOf, told, type Laid, type Ratios, type Row } from './overlay'
import { clockTicks, loadTicks } from './terrain'
import type { Axis } from './view'
import type { Schemas } from '@/api/client'

/** Several runs laid on each other: two rows, and where the first of them is a figure of the comparison the ratio of
 * the two runs, load by load. One cursor runs through all of them. */
const props = defineProps<{
  runs: Laid[]
  rows: Row[]
  axis: Axis
  anchor: string
  unit: string
  ratio: Schemas['FigureLine'] | undefined
}>()
const [ROW, GAP, TOP, BOTTOM, LEFT, RIGHT] = [130, 26, 8, 34, 62, 170]
/** The run that is judged is ours, the one it is compared with the other ink; further ones stand behind. */
const INKS = ['var(--plum)', 'var(--copper)', 'var(--moss)', 'var(--ochre)']
const DASHES = ['6 4', undefined, '2 3', '9 3 2 3']

const box = ref<HTMLElement | null>(null)
const { width: measured } = useElementSize(box)
const width = computed(() => Math.max(320, measured.value))
const ratios = computed<Ratios | null>(() =>
  props.axis === 'load' && props.ratio ? ratiosOf(props.ratio) : null,
)
const shown = computed(() =>
  props.rows.map((row, i) => {
    const lines = drawn(props.runs, row.id, props.axis, props.anchor)
    const peak = Math.max(1e-9, ...lines.flatMap((line) => line.dots.map((dot) => dot.y)))
    const ticks = loadTicks(peak, 3)
    return { row, lines, ticks, most: ticks.at(-1) ?? peak, top: TOP + i * (ROW + GAP) }
  }),
)
const ratioTop = computed(() => TOP + props.rows.length * (ROW + GAP))
const height = computed(() => ratioTop.value + (ratios.value ? ROW + GAP : 0) + BOTTOM - GAP)
const span = computed(() => {
  const xs = shown.value.flatMap((one) =>
    one.lines.flatMap((line) => line.dots.map((dot) => dot.x)),
  )
  const low = props.axis === 'load' ? 0 : Math.min(0, ...xs)
  const high = Math.max(1, ...xs)
  return [low, props.axis === 'load' ? high * 1.04 : high] as const
})
const x = (value: number) =>
  LEFT + ((value - span.value[0]) / (span.value[1] - span.value[0])) * (width.value - LEFT - RIGHT)
const y = (value: number, one: { most: number; top: number }) =>
  one.top + ROW * (1 - value / one.most)
const ry = (ratio: number) => {
  const most = ratios.value?.most ?? 1
  const at = Math.max(-most, Math.min(most, Math.log(ratio)))
  return ratioTop.value + (ROW / 2) * (1 - at / most)
}
const ticks = computed(() => {
  const most = Math.max(2, Math.floor((width.value - LEFT - RIGHT) / 90))
  if (props.axis === 'load') return loadTicks(span.value[1], most).filter((t) => t <= span.value[1])
  return clockTicks(span.value[1], most)
})
const path = (dots: { x: number; y: number }[], one: { most: number; top: number }) =>
  dots.map((dot) => `${x(dot.x).toFixed(1)},${y(dot.y, one).toFixed(1)}`).join(' ')
const cursor = ref<number | null>(null)
function move(event: PointerEvent) {
  const left = (event.currentTarget as Element).getBoundingClientRect().left
  const part = (event.clientX - left - LEFT) / (width.value - LEFT - RIGHT)
  cursor.value =
    part < 0 || part > 1 ? null : span.value[0] + part * (span.value[1] - span.value[0])
}
const within = computed(() => (span.value[1] - span.value[0]) / 12)
const at = computed(() => cursor.value ?? span.value[1])
const here = computed(() => {
  const points = ratios.value?.points ?? []
  const load = near(
    points.map((p) => ({ x: p.x, y: p.x })),
    at.value,
    within.value,
  )
  return points.find((p) => p.x === load)
})
const summary = computed(
  () =>
    `${props.rows.map((row) => row.name).join(' and ')} of runs ${props.runs.map((run) => run.id).join(', ')}; the ratios stand in the table below.`,
)
</script>

<template>
  <div ref="box" data-testid="overlay" @pointermove="move" @pointerleave="cursor = null">
    <svg :width="width" :height="height" role="img" :aria-label="summary" class="block">
      <g v-for="one in shown" :key="one.row.id">
        <g v-for="tick in one.ticks" :key="tick">
          <line
            :x1="LEFT"
            :x2="width - RIGHT"
            :y1="y(tick, one)"
            :y2="y(tick, one)"
            stroke="var(--rule)"
          />
          <text :x="LEFT - 8" :y="y(tick, one) + 4" text-anchor="end" class="plate-text">
            {{ told(tick, one.row) }}
          </text>
        </g>
        <template v-for="(line, i) in one.lines" :key="line.id">
          <polyline
            :points="path(line.dots, one)"
            fill="none"
            :stroke="INKS[i]"
            stroke-width="1.5"
            :stroke-dasharray="DASHES[i]"
          />
          <template v-if="axis === 'load'">
            <circle
              v-for="(dot, k) in line.dots"
              :key="k"
              :cx="x(dot.x)"
              :cy="y(dot.y, one)"
              r="3.5"
              :fill="i === 1 ? INKS[i] : 'var(--paper)'"
              :stroke="INKS[i]"
              stroke-width="1.5"
            />
          </template>
        </template>
        <text :x="width - RIGHT + 12" :y="one.top + 12" class="plate-text told">
          {{ one.row.name }}
        </text>
        <text
          v-for="(line, i) in one.lines"
          :key="line.id"
          :x="width - RIGHT + 12"
          :y="one.top + 32 + 18 * i"
          class="plate-text"
          :style="{ fill: INKS[i] }"
        >
          run {{ line.id }}: {{ told(near(line.dots, at, within), one.row) }}
        </text>
      </g>
      <g v-if="ratios && ratio">
        <rect
          :x="LEFT"
          :width="width - LEFT - RIGHT"
          :y="ry(1 + ratio.detectable)"
          :height="Math.max(1, ry(1 / (1 + ratio.detectable)) - ry(1 + ratio.detectable))"
          fill="var(--silt)"
          opacity="0.4"
        />
        <line :x1="LEFT" :x2="width - RIGHT" :y1="ry(1)" :y2="ry(1)" stroke="var(--ink-2)" />
        <text :x="LEFT - 8" :y="ry(1) + 4" text-anchor="end" class="plate-text">as before</text>
        <text
          v-if="ry(1) - ry(1 + ratio.detectable) > 14"
          :x="LEFT - 8"
          :y="ry(1 + ratio.detectable) + 4"
          text-anchor="end"
          class="plate-text"
        >
          {{ signed(1 + ratio.detectable) }}
        </text>
        <g v-for="point in ratios.points" :key="point.x">
          <line
            :x1="x(point.x)"
            :x2="x(point.x)"
            :y1="ry(point.high)"
            :y2="ry(point.low)"
            stroke="var(--ink)"
          />
          <rect
            :x="x(point.x) - 4"
            :y="ry(point.ratio) - 4"
            width="8"
            height="8"
            :fill="point.low > 1 || point.high < 1 ? 'var(--ink)' : 'var(--paper)'"
            stroke="var(--ink)"
          />
        </g>
        <text :x="width - RIGHT + 12" :y="ratioTop + 12" class="plate-text told">Ratio</text>
        <text v-if="here" :x="width - RIGHT + 12" :y="ratioTop + 32" class="plate-text">
          {{ signed(here.ratio) }}
        </text>
        <text v-if="here" :x="width - RIGHT + 12" :y="ratioTop + 50" class="plate-text">
          {{ signed(here.low) }} to {{ signed(here.high) }}
        </text>
      </g>
      <line
        v-if="cursor !== null"
        :x1="x(cursor)"
        :x2="x(cursor)"
        :y1="TOP"
        :y2="height - BOTTOM"
        stroke="var(--ink-2)"
        stroke-dasharray="2 3"
      />
      <g v-for="tick in ticks" :key="tick">
        <line
          :x1="x(tick)"
          :x2="x(tick)"
          :y1="height - BOTTOM"
          :y2="height - BOTTOM + 5"
          stroke="var(--ink-2)"
        />
        <text :x="x(tick)" :y="height - BOTTOM + 20" text-anchor="middle" class="plate-text">
          {{ axis === 'load' ? loadFigure(tick) : clock(tick) }}
        </text>
      </g>
      <text :x="width - RIGHT + 12" :y="height - BOTTOM + 20" class="plate-text">
        {{ axis === 'load' ? unit : 'min:s' }}
      </text>
    </svg>
  </div>
</template>
