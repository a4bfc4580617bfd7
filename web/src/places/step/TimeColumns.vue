<script setup lang="ts">
import { computed } from 'vue'
import { partsOf, wholeOf, type StepAtLevel } from '@/api/step'
import { seconds } from '@/ui/format'
import StackedTimes from './StackedTimes.vue'

/** What a step's mean time was made of at each level, phase by phase, and what servers said of the waiting. */
const props = defineProps<{ levels: StepAtLevel[]; unit: string }>()
const known = computed(() => props.levels.filter((level) => wholeOf(level) > 0))
const columns = computed(() =>
  known.value.map((level) => ({
    key: level.number,
    name: level.level,
    load: level.load,
    whole: wholeOf(level),
    parts: partsOf(level).map((part) => ({ ...part, key: part.phase, hatch: part.phase })),
  })),
)
const servers = computed(() => [
  ...new Set(known.value.flatMap((level) => level.servers.map((server) => server.name))),
])
const ofServer = (level: StepAtLevel, name: string) =>
  level.servers.find((one) => one.name === name)?.mean_s
</script>

<template>
  <section aria-label="Where its time goes" data-testid="time">
    <h2 class="mb-1">Where its time goes</h2>
    <StackedTimes :columns="columns" :unit="unit" of="Mean of what succeeded">
      <tr v-for="name in servers" :key="name">
        <th scope="row" class="pl-6 font-sans !text-[13.5px] whitespace-nowrap">
          of the waiting, {{ name }} says
        </th>
        <td v-for="level in known" :key="level.number" class="!pr-2 text-right whitespace-nowrap">
          {{ seconds(ofServer(level, name)) }}
        </td>
      </tr>
    </StackedTimes>
    <p class="label">
      Of main requests; what a step waited for beyond them is <em>further requests</em>. Servers
      tell their time in <code>Server-Timing</code>; one may count the time of another within its
      own.
    </p>
  </section>
</template>
