<script setup lang="ts">
import { computed } from 'vue'
import { tracedOf, type StepAtLevel } from '@/api/step'
import { counted, seconds } from '@/ui/format'
import StackedTimes from './StackedTimes.vue'

/** In which component the time of a step's main request was spent at each level, by traces. */
const props = defineProps<{ levels: StepAtLevel[]; unit: string }>()
const HATCHES = ['waiting', 'sending', 'receiving', 'tls', 'connect', 'lookup']
const known = computed(() => props.levels.filter((level) => level.components.length))
const names = computed(() => [
  ...new Set(
    known.value
      .toReversed()
      .flatMap((level) => level.components.map((one) => one.name))
      .filter(Boolean),
  ),
])
const hatchOf = (name: string) =>
  name ? (HATCHES[names.value.indexOf(name) % HATCHES.length] ?? 'files') : 'files'
const columns = computed(() =>
  known.value.map((level) => ({
    key: level.number,
    name: `${level.level}, ${counted(tracedOf(level), 'trace')}`,
    load: level.load,
    whole: level.components.reduce((sum, one) => sum + one.mean_s, 0),
    parts: level.components.map((one) => ({
      key: one.name,
      name: one.name || 'outside of all that told',
      hatch: hatchOf(one.name),
      seconds: one.mean_s,
      more:
        one.low_s === null || one.high_s === null
          ? ''
          : ` (between ${seconds(one.low_s)} and ${seconds(one.high_s)})`,
    })),
  })),
)
</script>

<template>
  <section aria-label="In which component" data-testid="components">
    <h2 class="mb-1">In which component</h2>
    <StackedTimes :columns="columns" :unit="unit" of="Mean of main requests">
      <tr>
        <th scope="row" class="font-sans !text-[13.5px]">traces looked at</th>
        <td
          v-for="level in known"
          :key="level.number"
          class="!pr-2 text-right whitespace-nowrap text-ink-2"
        >
          {{ tracedOf(level) }}
        </td>
      </tr>
    </StackedTimes>
    <p class="label">
      By traces of visits that were chosen beforehand, each second counted once, where it was spent.
      <em>Outside</em>
      is the way to and fro, waiting before the first that told, and whoever did not tell. The
      interval (95 %) is shown at each share.
    </p>
  </section>
</template>
