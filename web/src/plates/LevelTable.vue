<script setup lang="ts">
import { figure, loadFigure, percent, rate, seconds } from '@/ui/format'
import { computed } from 'vue'
import { pinFigures, type PinRow } from './pinRows'
import { blurOf } from './blur'
import { resourceName } from './rows'
import { at, viewOf, type LevelPoint, type PlateInput } from './view'

/** What the plate draws, level by level in figures, with their 90 % intervals: clients, resources, pins. */
const props = defineProps<{ input: PlateInput; selected: number | null }>()
defineEmits<{ select: [number: number] }>()

const PERCENTILES = ['p50', 'p95', 'p99'] as const
const levels = computed(() => props.input.levels)
const plate = computed(() => props.input.plate)
/** Of a part of the run they are not known for every level. */
const pins = computed(() => (props.input.window ? [] : plate.value.pins))
const places = computed(() => viewOf({ ...props.input, axis: 'load' }).places)

/** Both ends in one unit. */
function ends([low, high]: [number, number]): string {
  return high < 1 ? `${figure(low * 1000)}–${seconds(high)}` : `${figure(low)}–${figure(high)} s`
}

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
          <th v-for="name in PERCENTILES" :key="name">{{ name }}</th>
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
          <td class="whitespace-nowrap">
            {{ rate(level.throughput) }}
            <span v-if="level.throughput_se" class="label block"
              >±{{ figure(1.645 * level.throughput_se) }}</span
            >
          </td>
          <td v-for="name in PERCENTILES" :key="name" class="whitespace-nowrap">
            {{ seconds(level[`${name}_s`]) }}
            <span v-if="level.intervals?.[name]" class="label block">{{
              ends(level.intervals[name])
            }}</span>
          </td>
          <td>{{ percent(level.completions ? level.errors / level.completions : 0) }}</td>
          <td>{{ percent(blurOf(level)) }}</td>
          <td v-for="r in plate.resources" :key="r.key">{{ percent(level.utilisation[r.key]) }}</td>
          <td v-for="pin in pins" :key="pin.title">{{ pinned(pin, level) }}</td>
        </tr>
      </tbody>
    </table>
  </div>
</template>
