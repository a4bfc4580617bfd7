<script setup lang="ts">
import { computed } from 'vue'
import { mapNodes, type RegionStand, type RegionWord } from '@/plates/regions'
import { figure, percent, seconds, users } from '@/ui/format'

/** Regions around the system they use: as large as their people are many, marked by how they stand. */
const props = defineProps<{ stands: RegionStand[]; system: string }>()
const WIDTH = 620
const height = computed(() => (props.stands.length > 4 ? 380 : 260))
const nodes = computed(() => mapNodes(props.stands, WIDTH, height.value))
const LOOKS: Record<RegionWord, { glyph: string; text: string; stroke: string; look: string }> = {
  within: { glyph: '○', text: 'within', stroke: 'var(--moss)', look: 'text-moss' },
  near: { glyph: '◐', text: 'near', stroke: 'var(--ochre)', look: 'text-ochre' },
  beyond: { glyph: '●', text: 'beyond', stroke: 'var(--brick)', look: 'text-brick' },
  nobody: { glyph: '·', text: 'nobody there', stroke: 'var(--ink-2)', look: 'text-ink-2' },
  unknown: { glyph: '?', text: 'not known', stroke: 'var(--ink-2)', look: 'text-ink-2' },
}
</script>

<template>
  <div>
    <svg
      class="h-auto w-full max-w-[620px]"
      :viewBox="`0 0 ${WIDTH} ${height}`"
      role="img"
      aria-label="Map of the regions; the table below tells the same"
      data-testid="region-map"
    >
      <line
        v-for="node in nodes"
        :key="node.stand.id"
        :x1="node.x"
        :y1="node.y"
        :x2="WIDTH / 2"
        :y2="height / 2"
        stroke="var(--silt)"
        stroke-linecap="round"
        :stroke-width="node.width"
      />
      <rect
        :x="WIDTH / 2 - 80"
        :y="height / 2 - 17"
        width="160"
        height="34"
        rx="4"
        fill="var(--card)"
        stroke="var(--rule)"
      />
      <foreignObject :x="WIDTH / 2 - 76" :y="height / 2 - 12" width="152" height="26">
        <p class="truncate text-center leading-[24px]" :title="system">{{ system }}</p>
      </foreignObject>
      <g v-for="node in nodes" :key="node.stand.id" :data-region="node.stand.name">
        <circle
          :cx="node.x"
          :cy="node.y"
          :r="node.radius"
          fill="var(--card)"
          :stroke="LOOKS[node.stand.word].stroke"
          :stroke-width="node.stand.word === 'beyond' ? 4 : 2"
        />
        <text
          :x="node.x"
          :y="node.y + 6"
          text-anchor="middle"
          font-size="17"
          :fill="LOOKS[node.stand.word].stroke"
        >
          {{ LOOKS[node.stand.word].glyph }}
        </text>
        <foreignObject :x="node.x - 100" :y="node.y + node.radius + 3" width="200" height="40">
          <p class="truncate text-center text-[14px] leading-[18px] font-semibold">
            {{ node.stand.name }}
          </p>
          <p class="figures truncate text-center text-[12px] leading-[16px]">
            {{ users(node.stand.users) }} users, p95 {{ seconds(node.stand.p95) }}
          </p>
        </foreignObject>
      </g>
    </svg>
    <table class="mt-2" data-testid="region-table">
      <thead>
        <tr>
          <th>Region</th>
          <th>State</th>
          <th>Users</th>
          <th>Steps/s</th>
          <th>p95</th>
          <th>Failing</th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="one in stands" :key="one.id">
          <td class="max-w-48 truncate" :title="one.name">{{ one.name }}</td>
          <td :class="LOOKS[one.word].look" class="whitespace-nowrap">
            {{ LOOKS[one.word].glyph }} {{ LOOKS[one.word].text }}
          </td>
          <td class="figures">{{ users(one.users) }}</td>
          <td class="figures">{{ figure(one.throughput) }}</td>
          <td class="figures">{{ seconds(one.p95) }}</td>
          <td class="figures">{{ percent(one.failing) }}</td>
        </tr>
      </tbody>
    </table>
  </div>
</template>
