<script setup lang="ts">
import { loadFigure, percent, rate, seconds } from '@/ui/format'
import { computed } from 'vue'
import { pinFigures, type PinRow } from './pinRows'
import { blurOf } from './blur'
import { resourceName } from './rows'
import { at, viewOf, type LevelPoint, type PlateInput } from './view'

/** What the plate draws, level by level in figures: clients, resources, pins. */
const props = defineProps<{ input: PlateInput; selected: number | null }>()
defineEmits<{ select: [number: number] }>()

const levels = computed(() => props.input.levels)
const plate = computed(() => props.input.plate)
/** Of a part of the run they are not known for every level. */
const pins = computed(() => (props.input.window ? [] : plate.value.pins))
const places = computed(() => viewOf({ ...props.input, axis: 'load' }).places)

function pinned(pin: PinRow, level: LevelPoint): string {
  const place = places.value.find((one) => one.level === level)
  return pinFigures(pin, (values) => (place ? at(values, place) : null)).join(', ')
}
</script>

<template>
  <div class="overflow-x-auto">
    <table data-testid="levels">
      <thead>
        <tr>
          <th>Level</th>
          <th>{{ input.profile.axis.name }}</th>
          <th>Throughput</th>
          <th>p50</th>
          <th>p95</th>
          <th>p99</th>
          <th>Errors</th>
          <th>Blur</th>
          <th v-for="r in plate.resources" :key="r.key">{{ resourceName(r) }}</th>
          <th v-for="pin in pins" :key="pin.title">{{ pin.title }}</th>
        </tr>
      </thead>
      <tbody class="figures">
        <tr
          v-for="level in levels"
          :key="level.number"
          class="cursor-pointer hover:bg-card"
          :class="selected === level.number ? 'bg-card outline outline-copper' : ''"
          :aria-selected="selected === level.number"
          @click="$emit('select', level.number)"
        >
          <td>{{ level.number }}</td>
          <td>{{ loadFigure(level.load.delivered) }}</td>
          <td class="whitespace-nowrap">{{ rate(level.throughput) }}</td>
          <td class="whitespace-nowrap">{{ seconds(level.p50_s) }}</td>
          <td class="whitespace-nowrap">{{ seconds(level.p95_s) }}</td>
          <td class="whitespace-nowrap">{{ seconds(level.p99_s) }}</td>
          <td>{{ percent(level.completions ? level.errors / level.completions : 0) }}</td>
          <td>{{ percent(blurOf(level)) }}</td>
          <td v-for="r in plate.resources" :key="r.key">{{ percent(level.utilisation[r.key]) }}</td>
          <td v-for="pin in pins" :key="pin.title">{{ pinned(pin, level) }}</td>
        </tr>
      </tbody>
    </table>
  </div>
</template>
