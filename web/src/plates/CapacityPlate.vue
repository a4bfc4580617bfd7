<script setup lang="ts">
import { useElementSize } from '@vueuse/core'
import { computed, ref } from 'vue'
import type { CapacityAnswer } from '@/api/capacity'
import { day, loadFigure } from '@/ui/format'
import { apart, ceilingsOf, expectedOf, reachOf } from './capacity'
import { dateTicks } from './history'
import { loadTicks } from './terrain'

/** The expected load as terrain over the coming dates, and across it the load that each component suffices for: whole
 * while it is enough, broken from the day on which it is not. */
const props = defineProps<{ answer: CapacityAnswer }>()
const HEIGHT = 340
const [TOP, BOTTOM, LEFT, RIGHT] = [40, 30, 56, 150]
const LABEL_PX = 14

const box = ref<HTMLElement | null>(null)
const { width: measured } = useElementSize(box)
const width = computed(() => Math.max(320, measured.value))
const most = computed(() => reachOf(props.answer))
const expected = computed(() => expectedOf(props.answer))
const times = computed(() => {
  const [first, last] = [expected.value[0]?.[0] ?? 0, expected.value.at(-1)?.[0] ?? 1]
  return [first, Math.max(last, first + 86_400_000)] as const
})
const x = (at: number) =>
  LEFT + ((at - times.value[0]) / (times.value[1] - times.value[0])) * (width.value - LEFT - RIGHT)
const y = (load: number) => TOP + (1 - Math.min(1, load / most.value)) * (HEIGHT - TOP - BOTTOM)
const end = computed(() => width.value - RIGHT)
const terrain = computed(() => {
  const top = expected.value.map(([at, load]) => `${x(at).toFixed(1)},${y(load).toFixed(1)}`)
  return `M${LEFT},${y(0)}L${top.join('L')}L${end.value},${y(0)}Z`
})
const peaks = computed(() =>
  props.answer.timeline
    .filter((one) => one.told)
    .map((one) => ({ ...one, at: Date.parse(`${one.on}T00:00:00Z`) })),
)
const ceilings = computed(() => {
  const shown = ceilingsOf(props.answer, most.value)
  const labels = apart(
    shown.map((one) => y(one.load)),
    LABEL_PX,
  )
  return shown.map((one, i) => ({ ...one, y: y(one.load), label: labels[i] ?? 0 }))
})
const ticks = computed(() => dateTicks(...times.value, Math.max(2, Math.floor(width.value / 110))))
const summary = computed(
  () =>
    `Expected load up to ${loadFigure(props.answer.peak)} ${props.answer.unit} on ${day(props.answer.peak_on)}. ` +
    ceilings.value
      .map(
        (one) =>
          `${one.name} ${one.of === 'now' ? 'as it is now' : 'as planned'} suffices for ${loadFigure(one.load)}.`,
      )
      .join(' '),
)
const words = (one: { name: string; of: string; load: number }) =>
  `${one.name}${one.of === 'now' ? ' now' : ', planned'} ${loadFigure(one.load)}`
</script>

<template>
  <div ref="box" data-testid="capacity-plate">
    <svg :width="width" :height="HEIGHT" role="img" :aria-label="summary" class="block">
      <g v-for="tick in loadTicks(most, 5)" :key="`y${tick}`">
        <line :x1="LEFT" :x2="end" :y1="y(tick)" :y2="y(tick)" stroke="var(--rule)" />
        <text :x="LEFT - 8" :y="y(tick) + 4" text-anchor="end" class="plate-text">{{ tick }}</text>
      </g>
      <text :x="LEFT - 44" :y="14" class="plate-text">{{ answer.unit }}</text>
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
      <path :d="terrain" fill="var(--silt)" opacity="0.4" />
      <g v-for="one in ceilings" :key="`${one.of} ${one.name}`" data-testid="ceiling">
        <line
          :x1="LEFT"
          :x2="one.passed === null ? end : x(one.passed)"
          :y1="one.y"
          :y2="one.y"
          :stroke="one.of === 'now' ? 'var(--ink)' : 'var(--moss)'"
          :stroke-width="one.lowest ? 2.4 : 1.2"
        />
        <line
          v-if="one.passed !== null"
          :x1="x(one.passed)"
          :x2="end"
          :y1="one.y"
          :y2="one.y"
          :stroke="one.of === 'now' ? 'var(--ink)' : 'var(--moss)'"
          stroke-dasharray="3 5"
        />
        <circle
          v-if="one.passed !== null && one.lowest"
          :cx="x(one.passed)"
          :cy="one.y"
          r="4"
          fill="var(--paper)"
          stroke="var(--brick)"
          stroke-width="2"
        >
          <title>
            {{ words(one) }}: enough until {{ day(new Date(one.passed).toISOString()) }}
          </title>
        </circle>
        <text
          v-if="one.passed !== null && one.lowest"
          :x="x(one.passed) + 8"
          :y="one.y - 7"
          class="plate-text told"
        >
          {{ day(new Date(one.passed).toISOString()) }}
        </text>
        <line
          :x1="end"
          :x2="end + 8"
          :y1="one.y"
          :y2="one.label"
          :stroke="one.of === 'now' ? 'var(--ink)' : 'var(--moss)'"
        />
        <text
          :x="end + 12"
          :y="one.label + 4"
          class="plate-text"
          :class="{ told: one.lowest }"
          :fill="one.of === 'now' ? 'var(--ink)' : 'var(--moss)'"
        >
          {{ words(one) }}
        </text>
      </g>
      <g v-for="one in peaks" :key="one.on">
        <line
          :x1="x(one.at)"
          :x2="x(one.at)"
          :y1="y(one.load) - 4"
          :y2="y(0)"
          stroke="var(--ink-2)"
          stroke-dasharray="2 4"
        />
        <circle :cx="x(one.at)" :cy="y(one.load)" r="3" fill="var(--ink-2)">
          <title>{{ day(one.on) }}: {{ loadFigure(one.load) }} {{ answer.unit }}</title>
        </circle>
        <text
          :x="Math.min(Math.max(x(one.at), LEFT + 4), end)"
          :y="y(0) - 6"
          :text-anchor="x(one.at) > end - 120 ? 'end' : 'start'"
          :dx="x(one.at) > end - 120 ? -5 : 5"
          class="plate-text"
        >
          {{ one.note.length > 28 ? `${one.note.slice(0, 27)}…` : one.note }}
        </text>
      </g>
    </svg>
    <p class="label">
      Terrain: what is expected, headroom included. Lines: up to which load each component is
      enough, alone; <span class="text-ink">as it is now</span> while no instance is lost, and
      <span class="text-moss">as planned</span> with the loss that is to be borne.
    </p>
  </div>
</template>
