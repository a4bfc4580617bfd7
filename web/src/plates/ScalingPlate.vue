<script setup lang="ts">
import { useElementSize } from '@vueuse/core'
import { computed, ref } from 'vue'
import type { ScalingFindings } from '@/api/series'
import { loadFigure } from '@/ui/format'
import { apart } from './capacity'
import { extentOf, silentFrom, sureOf, wholeTicks } from './scaling'
import { loadTicks } from './terrain'

/** The limit against how much there is of something: points with their intervals, the fan of all laws as far as the
 * data carry it, and the rates at which other components are full. What is not told is left blank, with the reason. */
const props = defineProps<{ found: ScalingFindings }>()
const HEIGHT = 360
const [TOP, BOTTOM, LEFT, RIGHT] = [30, 44, 60, 130]
const LABEL_PX = 15

const box = ref<HTMLElement | null>(null)
const { width: measured } = useElementSize(box)
const width = computed(() => Math.max(320, measured.value))
const end = computed(() => width.value - RIGHT)
const extent = computed(() => extentOf(props.found) ?? { first: 0, last: 1, most: 1 })
const x = (amount: number) =>
  LEFT +
  ((amount - extent.value.first) / (extent.value.last - extent.value.first)) * (end.value - LEFT)
const y = (rate: number) =>
  TOP + (1 - Math.min(1, rate / extent.value.most)) * (HEIGHT - TOP - BOTTOM)
const points = computed(() =>
  props.found.points.flatMap((one) =>
    one.amount === null ? [] : [{ ...one, amount: one.amount }],
  ),
)
const sure = computed(() => sureOf(props.found))
const most = computed(() => Math.max(...points.value.map((one) => one.amount)))
const path = (rate: 'low' | 'value' | 'high', upside = false) => {
  const along = upside ? [...sure.value].reverse() : sure.value
  return along
    .map((one) => `${x(one.amount).toFixed(1)},${y(one.limit[rate]).toFixed(1)}`)
    .join('L')
}
const fan = computed(() => (sure.value.length ? `M${path('high')}L${path('low', true)}Z` : ''))
const middle = computed(() => (sure.value.length ? `M${path('value')}` : ''))
/** The first of it as many times: what all of it would do if each brought as much. */
const even = computed(() => {
  const first = points.value[0]
  if (!first?.limit) return null
  const each = first.limit.value / first.amount
  const to = Math.min(extent.value.last, extent.value.most / each)
  return { x1: x(first.amount), y1: y(first.limit.value), x2: x(to), y2: y(each * to) }
})
const silent = computed(() => {
  const told = silentFrom(props.found)
  return told && x(told.from) < end.value - 8 ? told : null
})
const caps = computed(() => {
  const shown = props.found.caps
    .filter((one) => one.rate.value <= extent.value.most)
    .sort((a, b) => b.rate.value - a.rate.value)
  const labels = apart(
    shown.map((one) => y(one.rate.value)),
    LABEL_PX,
  )
  return shown.map((one, i) => ({ ...one, y: y(one.rate.value), label: labels[i] ?? 0 }))
})
const ticks = computed(() =>
  wholeTicks(extent.value.first, extent.value.last, Math.max(3, width.value / 70)),
)
const plain = (text: string) => text.replaceAll('`', '')
const summary = computed(() => {
  const told = points.value.map((one) =>
    one.limit
      ? `${plain(one.words)}: ${loadFigure(one.limit.value)} steps/s, ${loadFigure(one.limit.low)} to ${loadFigure(one.limit.high)}.`
      : `${plain(one.words)}: at least ${loadFigure(one.at_least ?? 0)} steps/s.`,
  )
  const far = sure.value.at(-1)
  const ahead = far
    ? ` With ${loadFigure(far.amount)}: ${loadFigure(far.limit.low)} to ${loadFigure(far.limit.high)} steps/s.`
    : ''
  return `Limit against ${props.found.axis}. ${told.join(' ')}${ahead}`
})
</script>

<template>
  <div ref="box" data-testid="scaling-plate">
    <svg :width="width" :height="HEIGHT" role="img" :aria-label="summary" class="block">
      <defs>
        <linearGradient
          id="fading"
          gradientUnits="userSpaceOnUse"
          :x1="x(most)"
          y1="0"
          :x2="Math.max(x(most) + 1, x(found.told_to))"
          y2="0"
        >
          <stop offset="0" stop-color="var(--copper)" stop-opacity="0.28" />
          <stop offset="1" stop-color="var(--copper)" stop-opacity="0.1" />
        </linearGradient>
      </defs>
      <g v-for="tick in loadTicks(extent.most, 5)" :key="`y${tick}`">
        <line :x1="LEFT" :x2="end" :y1="y(tick)" :y2="y(tick)" stroke="var(--rule)" />
        <text :x="LEFT - 8" :y="y(tick) + 4" text-anchor="end" class="plate-text">{{ tick }}</text>
      </g>
      <text :x="8" :y="14" class="plate-text">limit, steps/s</text>
      <g v-for="tick in ticks" :key="`x${tick}`">
        <line
          :x1="x(tick)"
          :x2="x(tick)"
          :y1="HEIGHT - BOTTOM"
          :y2="HEIGHT - BOTTOM + 5"
          stroke="var(--ink-2)"
        />
        <text :x="x(tick)" :y="HEIGHT - BOTTOM + 19" text-anchor="middle" class="plate-text">
          {{ tick }}
        </text>
      </g>
      <text :x="end" :y="HEIGHT - 6" text-anchor="end" class="plate-text">
        {{ found.axis }}{{ found.component ? ` of ${found.component}` : '' }}
      </text>
      <line v-if="even" v-bind="even" stroke="var(--ink-2)" stroke-dasharray="1 5" />
      <path v-if="fan" :d="fan" fill="url(#fading)" data-testid="fan" />
      <path v-if="middle" :d="middle" fill="none" stroke="var(--copper)" stroke-width="1.6" />
      <g v-if="silent" data-testid="silent">
        <line
          :x1="x(silent.from)"
          :x2="x(silent.from)"
          :y1="TOP"
          :y2="HEIGHT - BOTTOM"
          stroke="var(--ink-2)"
          stroke-dasharray="2 4"
        />
        <text
          :transform="`translate(${x(silent.from) + 16} ${HEIGHT - BOTTOM - 8}) rotate(-90)`"
          class="plate-text"
        >
          not told: {{ silent.why }}
        </text>
      </g>
      <g v-for="one in caps" :key="one.words" data-testid="cap">
        <rect
          :x="LEFT"
          :width="end - LEFT"
          :y="y(one.rate.high)"
          :height="Math.max(1, y(one.rate.low) - y(one.rate.high))"
          fill="var(--silt)"
          opacity="0.25"
        />
        <line :x1="LEFT" :x2="end" :y1="one.y" :y2="one.y" stroke="var(--ink)" />
        <line :x1="end" :x2="end + 8" :y1="one.y" :y2="one.label" stroke="var(--ink)" />
        <text :x="end + 12" :y="one.label + 4" class="plate-text">{{ plain(one.words) }}</text>
        <title>{{ plain(one.words) }} is full at {{ loadFigure(one.rate.value) }} steps/s</title>
      </g>
      <g v-for="one in points" :key="one.words" data-testid="scaled-point">
        <template v-if="one.limit">
          <line
            :x1="x(one.amount)"
            :x2="x(one.amount)"
            :y1="y(one.limit.high)"
            :y2="y(one.limit.low)"
            stroke="var(--ink)"
            stroke-width="3"
          />
          <circle
            :cx="x(one.amount)"
            :cy="y(one.limit.value)"
            r="4.5"
            fill="var(--paper)"
            stroke="var(--ink)"
            stroke-width="2"
          />
          <text
            :x="x(one.amount) - 9"
            :y="y(one.limit.value) - 7"
            text-anchor="end"
            class="plate-text told"
          >
            {{ loadFigure(one.limit.value) }}
          </text>
        </template>
        <template v-else-if="one.at_least !== null">
          <path
            :d="`M${x(one.amount)},${y(one.at_least)}v-22m-5,6l5,-6l5,6`"
            fill="none"
            stroke="var(--ink)"
            stroke-width="1.6"
          />
          <text :x="x(one.amount) + 8" :y="y(one.at_least) - 8" class="plate-text">
            over {{ loadFigure(one.at_least) }}
          </text>
        </template>
        <title>{{ plain(one.words) }}</title>
      </g>
    </svg>
    <p class="label">
      Points: the highest throughput that was measured, with its 90 % interval; an arrow where the
      load did not reach it.
      <template v-if="found.band.length"
        >Fan: what the laws make of it, from 5 to 95 %. Dotted: if each brought as much as the
        first.{{ ' ' }}</template
      >
      <template v-if="caps.length">Lines: where other components are full.</template>
    </p>
  </div>
</template>
