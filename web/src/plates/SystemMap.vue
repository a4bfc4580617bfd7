<script setup lang="ts">
import { computed } from 'vue'
import { BOX, drawMap, type MapComponent } from './systemMap'
import { stateOf, type MeterWord } from '@/ui/meterState'

export interface MapState {
  state: MeterWord
  instances: string
}

const props = defineProps<{ components: MapComponent[]; states: Map<string, MapState> }>()
defineEmits<{ choose: [name: string] }>()
const map = computed(() => drawMap(props.components))
</script>

<template>
  <div class="overflow-x-auto" data-testid="map">
    <svg
      :width="map.width"
      :height="map.height"
      :viewBox="`0 0 ${map.width} ${map.height}`"
      role="group"
      aria-label="Map of the components"
    >
      <defs>
        <marker
          id="tip"
          viewBox="0 0 8 8"
          refX="7"
          refY="4"
          markerWidth="7"
          markerHeight="7"
          orient="auto"
        >
          <path d="M0,0 L8,4 L0,8 z" fill="var(--ink-2)" />
        </marker>
      </defs>
      <path
        v-for="line in map.lines"
        :key="`${line.from}→${line.to}`"
        :d="line.path"
        fill="none"
        stroke="var(--ink-2)"
        stroke-width="1.2"
        marker-end="url(#tip)"
      >
        <title>{{ line.from }} calls {{ line.to }}</title>
      </path>
      <g
        v-for="box in map.boxes"
        :key="box.name"
        :transform="`translate(${box.x},${box.y})`"
        class="group cursor-pointer focus:outline-none"
        role="button"
        tabindex="0"
        :aria-label="`${box.name}: ${states.get(box.name)?.instances}, ${stateOf(states.get(box.name)?.state).word}`"
        :data-component="box.name"
        @click="$emit('choose', box.name)"
        @keydown.enter="$emit('choose', box.name)"
      >
        <rect
          :width="BOX.width"
          :height="BOX.height"
          rx="4"
          fill="var(--card)"
          class="group-hover:stroke-copper group-focus-visible:stroke-copper"
          stroke="var(--rule)"
        />
        <foreignObject x="10" y="5" :width="BOX.width - 20" :height="BOX.height - 8">
          <p class="truncate leading-[19px] font-semibold">{{ box.name }}</p>
          <p class="truncate text-[12px] leading-[16px] text-ink-2">
            {{ states.get(box.name)?.instances }}
          </p>
          <p
            class="truncate text-[12px] leading-[16px]"
            :class="stateOf(states.get(box.name)?.state).look"
          >
            {{ stateOf(states.get(box.name)?.state).glyph }}
            {{ stateOf(states.get(box.name)?.state).word }}
          </p>
        </foreignObject>
      </g>
    </svg>
    <details class="mt-1">
      <summary class="label cursor-pointer">Table of {{ components.length }} components</summary>
      <table class="mt-2" data-testid="components">
        <thead>
          <tr>
            <th>Component</th>
            <th>Instances</th>
            <th>Meters</th>
            <th>Calls</th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="component in components" :key="component.name">
            <td>{{ component.name }}</td>
            <td>{{ states.get(component.name)?.instances }}</td>
            <td>{{ stateOf(states.get(component.name)?.state).word }}</td>
            <td>{{ component.calls.join(', ') || '–' }}</td>
          </tr>
        </tbody>
      </table>
    </details>
  </div>
</template>
