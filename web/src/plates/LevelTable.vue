<script setup lang="ts">
import { percent, rate, seconds, users } from '@/ui/format'
import { resourceName, type LevelPoint, type Plate } from './runPlate'

defineProps<{ levels: LevelPoint[]; resources: Plate['resources']; selected: number | null }>()
defineEmits<{ select: [number: number] }>()
</script>

<template>
  <div class="overflow-x-auto">
    <table data-testid="levels">
      <thead>
        <tr>
          <th>Level</th>
          <th>Users</th>
          <th>Throughput</th>
          <th>p50</th>
          <th>p95</th>
          <th>p99</th>
          <th>Errors</th>
          <th v-for="r in resources" :key="r.key">{{ resourceName(r) }}</th>
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
          <td>{{ users(level.users) }}</td>
          <td class="whitespace-nowrap">{{ rate(level.throughput) }}</td>
          <td class="whitespace-nowrap">{{ seconds(level.p50_s) }}</td>
          <td class="whitespace-nowrap">{{ seconds(level.p95_s) }}</td>
          <td class="whitespace-nowrap">{{ seconds(level.p99_s) }}</td>
          <td>{{ percent(level.completions ? level.errors / level.completions : 0) }}</td>
          <td v-for="r in resources" :key="r.key">{{ percent(level.utilisation[r.key]) }}</td>
        </tr>
      </tbody>
    </table>
  </div>
</template>
