<script setup lang="ts">
import { computed } from 'vue'
import type { Schemas } from '@/api/client'
import { clock, seconds } from '@/ui/format'
import MetricsFiles from './MetricsFiles.vue'

/** How the meters did in a run, what they showed, and the files added to it. */
const props = defineProps<{ run: Schemas['RunDetail']; events: Schemas['EventMark'][] }>()
const CLOCK_OFF_S = 2
const missed = computed(() => props.run.meters.filter((m) => m.missed > 0).length)
const title = computed(() => {
  const count = props.run.meters.length
  const parts = [`${count} metered address${count === 1 ? '' : 'es'}`]
  if (missed.value) parts.push(`${missed.value} missed scrapes`)
  if (props.events.length)
    parts.push(`${props.events.length} event${props.events.length === 1 ? '' : 's'}`)
  return parts.join(', ')
})
</script>

<template>
  <details class="mt-2" data-testid="run-meters">
    <summary class="label cursor-pointer">Meters of this run: {{ title }}</summary>
    <div class="mt-2 space-y-3">
      <p v-if="run.system_id">
        <RouterLink :to="`/systems/${run.system_id}/metrics`">Pin metrics to this plate</RouterLink>
      </p>
      <ul v-if="events.length" class="space-y-1">
        <li v-for="event in events" :key="event.text + event.t" class="break-words">
          <span class="figures">{{ clock(event.t) }}</span> {{ event.text }}.
        </li>
      </ul>
      <div v-if="run.meters.length" class="overflow-x-auto">
        <table class="max-w-3xl">
          <thead>
            <tr>
              <th>Component</th>
              <th>Instance</th>
              <th>Scrapes answered</th>
              <th>Missed</th>
              <th>Its clock</th>
            </tr>
          </thead>
          <tbody>
            <tr v-for="m in run.meters" :key="m.component + m.instance">
              <td>{{ m.component }}</td>
              <td class="figures break-all">{{ m.instance }}</td>
              <td class="figures">{{ m.answered }}</td>
              <td class="figures">
                {{ m.missed }}
                <span v-if="m.missed" class="label block break-words">{{ m.last_fault }}</span>
              </td>
              <td>
                <template v-if="m.clock_offset_s === null">not told</template>
                <template v-else-if="Math.abs(m.clock_offset_s) < CLOCK_OFF_S">like ours</template>
                <template v-else
                  >{{ seconds(Math.abs(m.clock_offset_s)) }}
                  {{ m.clock_offset_s > 0 ? 'ahead' : 'behind' }}; timed by ours</template
                >
              </td>
            </tr>
          </tbody>
        </table>
      </div>
      <MetricsFiles v-if="run.ended && run.begun_at" :run="run" />
    </div>
  </details>
</template>
