<script setup lang="ts">
import { computed } from 'vue'
import VChart from 'vue-echarts'
import type { Schemas } from '@/api/client'
import { clock, users } from '@/ui/format'
import { tokens } from '@/ui/theme'
import './echarts'
import { drawProfile } from './profilePlate'

const props = defineProps<{ profile: Schemas['ProfileOutline'] }>()
const option = computed(() => drawProfile(props.profile, tokens.value))
</script>

<template>
  <figure data-testid="profile">
    <div class="h-64"><VChart :option="option" autoresize aria-hidden="true" /></div>
    <details class="label">
      <summary class="cursor-pointer">Table of {{ profile.levels.length }} levels</summary>
      <table class="mt-2 max-w-md">
        <thead>
          <tr>
            <th>Level</th>
            <th>From</th>
            <th>To</th>
            <th>Users</th>
          </tr>
        </thead>
        <tbody class="figures">
          <tr v-for="(level, i) in profile.levels" :key="level.start_s">
            <td>{{ i + 1 }}</td>
            <td>{{ clock(level.start_s) }}</td>
            <td>{{ clock(level.end_s) }}</td>
            <td>{{ users(level.users) }}{{ level.moving ? ', moving' : '' }}</td>
          </tr>
        </tbody>
      </table>
    </details>
  </figure>
</template>
