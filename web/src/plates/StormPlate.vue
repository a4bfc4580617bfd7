<script setup lang="ts">
import { useElementSize } from '@vueuse/core'
import { computed, ref } from 'vue'
import type { StormFindings } from '@/api/changes'
import { seconds, users } from '@/ui/format'
import { marksOf, spanOf, steps, stripsOf } from './storm'
import { loadTicks } from './terrain'

/** Ready instances as a vessel that fills, with marks at its side, stragglers as dots under it, and what was busy
 * meanwhile as strips on the same clock. */
const props = defineProps<{ found: StormFindings }>()
const HEIGHT = 300
const STRIP = 34
const [TOP, BOTTOM, LEFT, RIGHT] = [16, 26, 130, 150]

const box = ref<HTMLElement | null>(null)
const { width: measured } = useElementSize(box)
const width = computed(() => Math.max(360, measured.value))
const end = computed(() => width.value - RIGHT)
const span = computed(() => spanOf(props.found))
const x = (at: number) =>
  LEFT + ((at - span.value[0]) / (span.value[1] - span.value[0])) * (end.value - LEFT)
const y = (ready: number) => TOP + (1 - ready / props.found.asked) * (HEIGHT - TOP - BOTTOM)
const going = computed(() => ['asked', 'accepted'].includes(props.found.state))
const last = computed(() =>
  going.value ? (props.found.curve.at(-1)?.after_s ?? 0) : span.value[1],
)
const corners = computed(() => steps(props.found, last.value))
const water = computed(() => {
  const top = corners.value.map(([at, ready]) => `${x(at).toFixed(1)},${y(ready).toFixed(1)}`)
  return `M${x(0)},${y(0)}L${top.join('L')}L${x(last.value)},${y(0)}Z`
})
const marks = computed(() => marksOf(props.found, y, 15))
const dots = computed(() => props.found.late.filter((one) => one.after_s !== null))
const ticks = computed(() => {
  const [first, most] = span.value
  const step =
    [0.5, 1, 2, 5, 10, 20, 30, 60, 120, 300, 600].find(
      (one) => (most - first) / one <= width.value / 90,
    ) ?? 1200
  const found: number[] = []
  for (let at = Math.ceil(first / step) * step; at <= most; at += step) found.push(at)
  return found
})
function strip(values: (number | null)[], from: number, every: number, most: number): string {
  let path = ''
  let drawn = false
  values.forEach((value, i) => {
    if (value === null) {
      drawn = false
      return
    }
    const height = (1 - Math.min(1, value / most)) * (STRIP - 10)
    path += `${drawn ? 'L' : 'M'}${x(from + (i + 0.5) * every).toFixed(1)},${(6 + height).toFixed(1)}`
    drawn = true
  })
  return path
}
const strips = computed(() => stripsOf(props.found))
const LONGEST = 20
const short = (text: string) => (text.length > LONGEST ? `${text.slice(0, LONGEST - 1)}…` : text)
const summary = computed(
  () =>
    `${users(props.found.ready)} of ${users(props.found.asked)} ready. ` +
    props.found.marks
      .filter((one) => one.after_s !== null)
      .map((one) => `${one.share} % after ${seconds(one.after_s ?? 0)}.`)
      .join(' '),
)
</script>

<template>
  <div ref="box" data-testid="storm-plate">
    <svg :width="width" :height="HEIGHT" role="img" :aria-label="summary" class="block">
      <g v-for="tick in loadTicks(found.asked, 4)" :key="`y${tick}`">
        <line :x1="LEFT" :x2="end" :y1="y(tick)" :y2="y(tick)" stroke="var(--rule)" />
        <text :x="LEFT - 8" :y="y(tick) + 4" text-anchor="end" class="plate-text">{{ tick }}</text>
      </g>
      <text :x="8" :y="TOP + 4" class="plate-text">ready</text>
      <path :d="water" fill="var(--copper)" opacity="0.22" />
      <path
        :d="`M${corners.map(([at, ready]) => `${x(at).toFixed(1)},${y(ready).toFixed(1)}`).join('L')}`"
        fill="none"
        stroke="var(--copper)"
        stroke-width="1.6"
      />
      <line
        :x1="LEFT"
        :x2="end"
        :y1="y(found.asked)"
        :y2="y(found.asked)"
        stroke="var(--ink-2)"
        stroke-dasharray="2 4"
      />
      <line :x1="x(0)" :x2="x(0)" :y1="TOP" :y2="y(0)" stroke="var(--ink-2)" />
      <g v-for="one in marks" :key="one.shares.join()" data-testid="ready-mark">
        <line
          :x1="x(one.after)"
          :x2="end + 8"
          :y1="one.y"
          :y2="one.y"
          stroke="var(--ink)"
          stroke-dasharray="1 3"
        />
        <circle :cx="x(one.after)" :cy="one.y" r="3.5" fill="var(--paper)" stroke="var(--ink)" />
        <text :x="end + 12" :y="one.y + 4" class="plate-text told">
          {{ one.shares.join(', ') }} %: {{ seconds(one.after) }}
        </text>
      </g>
      <circle
        v-for="one in dots"
        :key="one.number"
        :cx="x(one.after_s ?? 0)"
        :cy="y(0) - 5"
        r="3"
        fill="var(--brick)"
      >
        <title>{{ one.number }}: after {{ seconds(one.after_s ?? 0) }}</title>
      </circle>
      <g v-for="tick in ticks" :key="`x${tick}`">
        <line :x1="x(tick)" :x2="x(tick)" :y1="y(0)" :y2="y(0) + 5" stroke="var(--ink-2)" />
        <text :x="x(tick)" :y="HEIGHT - 6" text-anchor="middle" class="plate-text">
          {{ tick }} s
        </text>
      </g>
    </svg>
    <svg
      v-for="one in strips"
      :key="one.words"
      :width="width"
      :height="STRIP"
      role="img"
      :aria-label="`${one.words}, ${one.told}`"
      class="block"
      data-testid="storm-strip"
    >
      <title v-if="one.words.length > LONGEST">{{ one.words }}</title>
      <text :x="LEFT - 8" :y="STRIP / 2 + 5" text-anchor="end" class="plate-text">
        {{ short(one.words) }}
      </text>
      <line :x1="LEFT" :x2="end" :y1="STRIP - 4" :y2="STRIP - 4" stroke="var(--rule)" />
      <path
        v-for="line in one.lines"
        :key="line.op ?? ''"
        :d="strip(line.values, one.from, one.every, one.most)"
        fill="none"
        stroke="var(--ink)"
        stroke-width="1.2"
        :stroke-dasharray="line.op === 'write' ? '3 3' : undefined"
      />
      <line :x1="x(0)" :x2="x(0)" y1="0" :y2="STRIP" stroke="var(--ink-2)" />
      <text :x="end + 12" :y="STRIP / 2 + 5" class="plate-text">{{ one.told }}</text>
    </svg>
  </div>
</template>
