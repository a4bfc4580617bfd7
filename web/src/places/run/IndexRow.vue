<script setup lang="ts">
import { useElementSize } from '@vueuse/core'
import { computed, ref } from 'vue'
import type { MoreUsers } from '@/api/moreUsers'
import { roundTicks } from '@/plates/answer'
import { figure } from '@/ui/format'

/** An index of how it feels to be a user, level by level with its intervals, against its limit; and where it crosses
 * it. What was not tried is blank. */
const props = defineProps<{ found: MoreUsers }>()
const HEIGHT = 200
const [TOP, BOTTOM, LEFT, RIGHT] = [10, 34, 56, 12]
const box = ref<HTMLElement | null>(null)
const { width: measured } = useElementSize(box)
const width = computed(() => Math.max(320, measured.value))
/** Times as slow go by factors, a score by differences. */
const factors = computed(() => props.found.index === 'slowdown')
const most = computed(
  () => Math.max(props.found.tested, props.found.crossing?.high ?? 0, 1e-9) * 1.03,
)
const ends = computed(() => {
  if (!factors.value) return [0, 1] as const
  const values = props.found.levels.flatMap((level) => [level.low, level.high])
  return [
    Math.min(1, ...values) * 0.95,
    Math.max(props.found.limit * 1.2, ...values) * 1.05,
  ] as const
})
const scale = (value: number) => (factors.value ? Math.log(Math.max(value, 1e-6)) : value)
const x = (load: number) => LEFT + (load / most.value) * (width.value - LEFT - RIGHT)
const y = (value: number) => {
  const [low, high] = [scale(ends.value[0]), scale(ends.value[1])]
  const share = Math.min(1, Math.max(0, (scale(value) - low) / (high - low)))
  return HEIGHT - BOTTOM - share * (HEIGHT - TOP - BOTTOM)
}
const ticks = computed(() => {
  const [low, high] = ends.value
  if (!factors.value) return [0, 0.5, 1]
  const all = [1, 2, 5, 10, 20, 50, 100, 200, 500, 1000, 2000, 5000]
  return all.filter((one) => one >= low && one <= high)
})
const path = computed(() =>
  props.found.levels
    .map((level, i) => `${i ? 'L' : 'M'}${x(level.load).toFixed(1)},${y(level.value).toFixed(1)}`)
    .join(''),
)
const worth = (value: number) => (factors.value ? `${figure(value)} ×` : value.toFixed(2))
</script>

<template>
  <div ref="box" data-testid="index-row">
    <svg
      :width="width"
      :height="HEIGHT"
      role="img"
      class="block"
      :aria-label="`${found.levels.length} levels, from ${worth(found.levels[0]?.value ?? 1)} to ${worth(found.levels.at(-1)?.value ?? 1)}; the limit is ${worth(found.limit)}`"
    >
      <g v-for="tick in ticks" :key="`y${tick}`">
        <line :x1="LEFT" :x2="width - RIGHT" :y1="y(tick)" :y2="y(tick)" stroke="var(--rule)" />
        <text :x="LEFT - 8" :y="y(tick) + 4" text-anchor="end" class="plate-text">
          {{ factors ? `${tick} ×` : tick }}
        </text>
      </g>
      <g v-for="tick in roundTicks(0, most)" :key="`x${tick}`">
        <line
          :x1="x(tick)"
          :x2="x(tick)"
          :y1="HEIGHT - BOTTOM"
          :y2="HEIGHT - BOTTOM + 4"
          stroke="var(--ink-2)"
        />
        <text :x="x(tick)" :y="HEIGHT - BOTTOM + 16" text-anchor="middle" class="plate-text">
          {{ tick }}
        </text>
      </g>
      <text :x="width - RIGHT" :y="HEIGHT - 4" text-anchor="end" class="plate-text">
        {{ found.unit }}
      </text>
      <rect
        v-if="found.crossing"
        :x="x(found.crossing.low)"
        :width="Math.max(1, x(found.crossing.high) - x(found.crossing.low))"
        :y="TOP"
        :height="HEIGHT - TOP - BOTTOM"
        fill="var(--ochre)"
        :opacity="found.extrapolated ? 0.12 : 0.22"
        data-testid="index-crossing"
      />
      <line
        v-if="found.crossing"
        :x1="x(found.crossing.value)"
        :x2="x(found.crossing.value)"
        :y1="TOP"
        :y2="HEIGHT - BOTTOM"
        stroke="var(--ochre)"
        :stroke-dasharray="found.extrapolated ? '3 3' : ''"
      />
      <line
        v-if="found.extrapolated"
        :x1="x(found.tested)"
        :x2="x(found.tested)"
        :y1="TOP"
        :y2="HEIGHT - BOTTOM"
        stroke="var(--ink-2)"
      />
      <text
        v-if="found.extrapolated"
        :x="x(found.tested) - 5"
        :y="TOP + 10"
        text-anchor="end"
        class="plate-text"
      >
        tried
      </text>
      <line
        :x1="LEFT"
        :x2="width - RIGHT"
        :y1="y(found.limit)"
        :y2="y(found.limit)"
        stroke="var(--brick)"
        stroke-dasharray="5 4"
      />
      <path :d="path" fill="none" stroke="var(--copper)" stroke-width="1.5" />
      <g v-for="level in found.levels" :key="level.level">
        <line
          :x1="x(level.load)"
          :x2="x(level.load)"
          :y1="y(level.low)"
          :y2="y(level.high)"
          stroke="var(--copper)"
        />
        <circle :cx="x(level.load)" :cy="y(level.value)" r="3" fill="var(--copper)">
          <title>
            Level {{ level.level }}, {{ figure(level.load) }} {{ found.unit }}:
            {{ worth(level.value) }} ({{ worth(level.low) }} to {{ worth(level.high) }})
          </title>
        </circle>
      </g>
    </svg>
  </div>
</template>
