<script setup lang="ts">
import { useElementSize } from '@vueuse/core'
import { computed, ref } from 'vue'
import { signed } from '@/ui/format'

/** One figure block by block: a candidate's over the other's, with what all blocks together say as a band, and what is
 * too little to matter as a strip of silt around none. */
const props = defineProps<{
  blocks: number[]
  planned: number
  ratios: number[]
  ratio: { value: number; low: number; high: number }
  matters: number
  stands: boolean
  name: string
}>()
const HEIGHT = 210
const [TOP, BOTTOM, LEFT, RIGHT] = [14, 34, 74, 96]
const box = ref<HTMLElement | null>(null)
const { width: measured } = useElementSize(box)
const width = computed(() => Math.max(280, measured.value))
const reach = computed(() => {
  const ends = [...props.ratios, props.ratio.low, props.ratio.high].map((r) =>
    Math.abs(Math.log(r)),
  )
  return Math.min(Math.log(4), 1.15 * Math.max(Math.log1p(2 * props.matters), ...ends))
})
const y = (ratio: number) => {
  const at = Math.min(reach.value, Math.max(-reach.value, Math.log(ratio)))
  return TOP + (0.5 - at / (2 * reach.value)) * (HEIGHT - TOP - BOTTOM)
}
const x = (block: number) =>
  LEFT + ((block - 0.5) / Math.max(1, props.planned)) * (width.value - LEFT - RIGHT)
const ticks = computed(() => {
  const most = Math.expm1(reach.value)
  const step = [0.02, 0.05, 0.1, 0.2, 0.5, 1].find((s) => most / s < 3.5) ?? 2
  const ups = Array.from({ length: Math.floor(most / step) }, (_, i) => 1 + step * (i + 1))
  return [1, ...ups.flatMap((up) => (Math.log(up) < 0.92 * reach.value ? [1 / up, up] : []))]
})
const summary = computed(
  () =>
    `${props.name} in ${props.blocks.length} blocks: together ${signed(props.ratio.value)}, ` +
    `${signed(props.ratio.low)} to ${signed(props.ratio.high)}.`,
)
</script>

<template>
  <div ref="box" data-testid="blocks-plate">
    <svg :width="width" :height="HEIGHT" role="img" :aria-label="summary" class="block">
      <rect
        :x="LEFT"
        :width="width - LEFT - RIGHT"
        :y="y(1 + matters)"
        :height="y(1 / (1 + matters)) - y(1 + matters)"
        fill="var(--silt)"
        opacity="0.3"
      />
      <g v-for="tick in ticks" :key="tick">
        <line
          :x1="LEFT"
          :x2="width - RIGHT"
          :y1="y(tick)"
          :y2="y(tick)"
          :stroke="tick === 1 ? 'var(--ink-2)' : 'var(--rule)'"
        />
        <text :x="LEFT - 8" :y="y(tick) + 4" text-anchor="end" class="plate-text">
          {{ tick === 1 ? 'alike' : signed(tick) }}
        </text>
      </g>
      <rect
        :x="LEFT"
        :width="width - LEFT - RIGHT"
        :y="y(ratio.high)"
        :height="Math.max(1, y(ratio.low) - y(ratio.high))"
        fill="var(--copper)"
        opacity="0.14"
      />
      <line
        :x1="LEFT"
        :x2="width - RIGHT"
        :y1="y(ratio.value)"
        :y2="y(ratio.value)"
        stroke="var(--copper)"
        :stroke-dasharray="stands ? undefined : '5 4'"
      />
      <text :x="width - RIGHT + 8" :y="y(ratio.value) + 4" class="plate-text told">
        {{ signed(ratio.value) }}
      </text>
      <text
        :x="width - RIGHT + 8"
        :y="y(1) + (Math.abs(y(1) - y(ratio.value)) < 16 ? 20 : 4)"
        class="plate-text"
      >
        {{ Number((100 * matters).toPrecision(3)) }} % is none
      </text>
      <g v-for="(one, i) in ratios" :key="blocks[i]">
        <line
          :x1="x(blocks[i] ?? 0)"
          :x2="x(blocks[i] ?? 0)"
          :y1="y(1)"
          :y2="y(one)"
          stroke="var(--copper)"
        />
        <circle :cx="x(blocks[i] ?? 0)" :cy="y(one)" r="4" fill="var(--copper)">
          <title>block {{ blocks[i] }}: {{ signed(one) }}</title>
        </circle>
      </g>
      <text
        v-for="block in planned"
        :key="block"
        :x="x(block)"
        :y="HEIGHT - 16"
        text-anchor="middle"
        class="plate-text"
      >
        {{ block }}
      </text>
      <text :x="LEFT - 8" :y="HEIGHT - 16" text-anchor="end" class="plate-text">block</text>
    </svg>
  </div>
</template>
