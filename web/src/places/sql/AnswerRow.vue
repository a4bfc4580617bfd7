<script setup lang="ts">
import { useElementSize } from '@vueuse/core'
import { computed, ref } from 'vue'
import { roundTicks, valueOf, type Drawn } from '@/plates/answer'

/** An answer drawn as a row: lines told apart by their dashes, named at their ends. */
const props = defineProps<{ drawn: Drawn }>()
const HEIGHT = 240
const [TOP, BOTTOM, LEFT, RIGHT] = [12, 34, 70, 170]
const DASHES = ['', '6 4', '2 3', '10 4 2 4', '2 6', '14 4']
const box = ref<HTMLElement | null>(null)
const { width: measured } = useElementSize(box)
const width = computed(() => Math.max(360, measured.value))
const all = computed(() => props.drawn.lines.flatMap((line) => line.points))
const ends = computed(() => {
  const xs = all.value.map(([x]) => x)
  const ys = all.value.flatMap(([, y]) => (y === null ? [] : [y]))
  return {
    x: [Math.min(...xs), Math.max(...xs)] as const,
    // From nothing on, unless it goes below.
    y: [Math.min(0, ...ys), Math.max(...ys, 1e-9)] as const,
  }
})
const x = (value: number) => {
  const [low, high] = ends.value.x
  return LEFT + ((value - low) / Math.max(1e-12, high - low)) * (width.value - LEFT - RIGHT)
}
const y = (value: number) => {
  const [low, high] = ends.value.y
  return HEIGHT - BOTTOM - ((value - low) / (high - low)) * (HEIGHT - TOP - BOTTOM)
}
/** Where nothing is known no line leads across. */
function path(points: [number, number | null][]): string {
  let open = false
  return points
    .map(([at, value]) => {
      if (value === null) {
        open = false
        return ''
      }
      const told = `${open ? 'L' : 'M'}${x(at).toFixed(1)},${y(value).toFixed(1)}`
      open = true
      return told
    })
    .join('')
}
/** The names at the lines' ends, none on another. */
const names = computed(() => {
  const wanted = props.drawn.lines
    .map((line, k) => ({ name: line.name, k, at: y(line.points.at(-1)?.[1] ?? 0) }))
    .toSorted((a, b) => a.at - b.at)
  let before = -Infinity
  const apart = wanted.map((one) => (before = Math.max(one.at, before + 15)))
  let after = HEIGHT - BOTTOM + 15
  const within = apart.toReversed().map((at) => (after = Math.min(at, after - 15)))
  return wanted.map((one, i) => ({ ...one, at: within[wanted.length - 1 - i] ?? one.at }))
})
const short = (text: string, most = 22) =>
  text.length > most ? `${text.slice(0, most - 1)}…` : text
</script>

<template>
  <div ref="box" data-testid="answer-row">
    <svg
      :width="width"
      :height="HEIGHT"
      role="img"
      :aria-label="`${drawn.y} along ${drawn.x}: ${drawn.lines.map((line) => line.name).join(', ')}`"
      class="block"
    >
      <g v-for="tick in roundTicks(ends.y[0], ends.y[1])" :key="`y${tick}`">
        <line :x1="LEFT" :x2="width - RIGHT" :y1="y(tick)" :y2="y(tick)" stroke="var(--rule)" />
        <text :x="LEFT - 8" :y="y(tick) + 4" text-anchor="end" class="plate-text">
          {{ valueOf(drawn.y, tick) }}
        </text>
      </g>
      <g v-for="tick in roundTicks(ends.x[0], ends.x[1])" :key="`x${tick}`">
        <line :x1="x(tick)" :x2="x(tick)" :y1="TOP" :y2="HEIGHT - BOTTOM" stroke="var(--rule)" />
        <text :x="x(tick)" :y="HEIGHT - BOTTOM + 16" text-anchor="middle" class="plate-text">
          {{ tick }}
        </text>
      </g>
      <text :x="LEFT - 8" :y="HEIGHT - BOTTOM + 16" text-anchor="end" class="plate-text">
        {{ short(drawn.x, 10) }}
      </text>
      <template v-for="(line, k) in drawn.lines" :key="line.name">
        <path
          :d="path(line.points)"
          fill="none"
          stroke="var(--copper)"
          stroke-width="1.5"
          :stroke-dasharray="DASHES[k]"
        />
        <template v-if="line.points.length <= 60">
          <circle
            v-for="(point, i) in line.points"
            v-show="point[1] !== null"
            :key="i"
            :cx="x(point[0])"
            :cy="y(point[1] ?? 0)"
            r="2.5"
            fill="var(--copper)"
          >
            <title>
              {{ line.name }}, {{ drawn.x }} {{ point[0] }}: {{ valueOf(drawn.y, point[1]) }}
            </title>
          </circle>
        </template>
      </template>
      <text
        v-for="one in names"
        :key="one.name"
        :x="width - RIGHT + 8"
        :y="one.at + 4"
        class="plate-text told"
      >
        {{ short(one.name) }}
        <title>{{ one.name }}</title>
      </text>
    </svg>
    <p v-if="drawn.left" class="label">
      The {{ drawn.lines.length }} highest; {{ drawn.left }} more are in the table.
    </p>
  </div>
</template>
