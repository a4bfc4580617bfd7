<script setup lang="ts">
import { computed } from 'vue'
import type { SeriesDetail } from '@/api/series'
import RunState from '@/ui/RunState.vue'
import { seconds } from '@/ui/format'

/** Every turn in the order in which they are taken, block by block, or round by round. */
const props = defineProps<{ series: SeriesDetail }>()
const blocks = computed(() =>
  Array.from({ length: props.series.blocks }, (_, i) => ({
    number: i + 1,
    turns: props.series.lines.filter((line) => line.block === i + 1),
  })),
)
type Turn = SeriesDetail['lines'][number]
const story = (turn: Turn) =>
  turn.done.map((d) => `${d.what}: ${d.outcome} (${seconds(d.took_s)})`).join('\n')
</script>

<template>
  <section aria-label="Turns">
    <h2 class="mb-1">Turns</h2>
    <div class="overflow-x-auto">
      <table data-testid="turns">
        <thead>
          <tr>
            <th>{{ series.scaled ? 'Round' : 'Block' }}</th>
            <th>{{ series.scaled ? 'Value' : 'Candidate' }}</th>
            <th>Run</th>
            <th>Under load after</th>
            <th class="w-1/2">What was done</th>
          </tr>
        </thead>
        <tbody>
          <template v-for="block in blocks" :key="block.number">
            <tr v-for="(turn, i) in block.turns" :key="turn.number">
              <td class="figures">{{ i ? '' : block.number }}</td>
              <td class="break-words">
                {{ turn.candidate }}<span v-if="turn.value" class="label"> {{ turn.value }}</span>
              </td>
              <td class="whitespace-nowrap">
                <template v-if="turn.run">
                  <RouterLink :to="`/runs/${turn.run}`">Run {{ turn.run }}</RouterLink>
                  <RunState v-if="turn.state" class="ml-2" :state="turn.state" />
                </template>
                <span v-else class="text-ink-2">to come</span>
              </td>
              <td class="figures">
                {{ turn.ready_after_s === null ? '' : seconds(turn.ready_after_s) }}
              </td>
              <td class="break-words">
                <details v-if="turn.done.length">
                  <summary class="cursor-pointer text-ink-2">
                    {{ turn.done.length }} {{ turn.done.length === 1 ? 'action' : 'actions' }}
                  </summary>
                  <p class="whitespace-pre-line">{{ story(turn) }}</p>
                </details>
                <p v-if="turn.state === 'failed' || turn.state === 'stopped'" class="text-brick">
                  {{ turn.cause }}
                </p>
              </td>
            </tr>
          </template>
        </tbody>
      </table>
    </div>
  </section>
</template>
