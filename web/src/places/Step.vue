<script setup lang="ts">
import { computed } from 'vue'
import { usePlate, useRun } from '@/api/queries'
import { requestsOf } from '@/api/requests'
import { lacking, sentencesOf, useStep, type StepAtLevel } from '@/api/step'
import type { Drawn } from '@/plates/answer'
import type { LevelPoint, PlateInput } from '@/plates/view'
import Loading from '@/ui/Loading.vue'
import Problem from '@/ui/Problem.vue'
import { given, percent, seconds, users } from '@/ui/format'
import Distribution from './run/Distribution.vue'
import AnswerRow from './sql/AnswerRow.vue'
import ComponentColumns from './step/ComponentColumns.vue'
import TimeColumns from './step/TimeColumns.vue'

/** One step of a run: from where on it fails, what it took at each load and over time, and with what. */
const props = defineProps<{ id: number; step: string }>()
const run = useRun(() => props.id)
const page = useStep(
  () => props.id,
  () => props.step,
)
const WHOLE = { from_s: 0, until_s: 0, last_s: 0, split: '' } as const
const shown = computed(() => ({ ...WHOLE, of: props.step }))
const plate = usePlate(() => props.id, false, shown)
const found = computed(() => page.data.value)
const sentences = computed(() => (found.value ? sentencesOf(found.value) : []))
const PERCENTILES = [
  { name: '99 %', of: 'p99_s', on: 'p99' },
  { name: '95 %', of: 'p95_s', on: 'p95' },
  { name: 'half', of: 'p50_s', on: 'p50' },
] as const
const drawn = (x: string, lines: Drawn['lines']): Drawn | null =>
  lines.some((line) => line.points.filter(([, y]) => y !== null).length > 1)
    ? { x, y: 'took_s', by: null, lines, left: 0 }
    : null
const againstLoad = computed(() =>
  drawn(
    found.value?.axis ?? 'users',
    PERCENTILES.map(({ name, of }) => ({
      name,
      points: (found.value?.levels ?? []).map((level): [number, number | null] => [
        level.load,
        level[of],
      ]),
    })),
  ),
)
const overTime = computed(() => {
  const seen = plate.data.value
  if (!seen || seen.of !== props.step) return null
  return drawn(
    's',
    PERCENTILES.map(({ name, on }) => ({
      name,
      points: seen.t.flatMap((t, i): [number, number | null][] =>
        t === null ? [] : [[t, seen[on][i] ?? null]],
      ),
    })),
  )
})
/** What the distribution needs to know of a plate. */
const input = computed(
  () =>
    plate.data.value &&
    run.data.value &&
    ({
      plate: plate.data.value,
      profile: run.data.value.outline.profile,
      levels:
        (run.data.value.result?.findings as { levels: LevelPoint[] } | null | undefined)?.levels ??
        [],
    } as unknown as PlateInput),
)
const toRequests = (level: StepAtLevel, more: Record<string, string> = {}) =>
  requestsOf(props.id, { of: props.step, from_s: level.from_s, until_s: level.until_s, ...more })
</script>

<template>
  <div>
    <header class="mb-3">
      <h1 class="break-words">
        {{ found?.name ?? 'A step' }} in <RouterLink :to="`/runs/${id}`">run {{ id }}</RouterLink>
      </h1>
      <p v-if="found" class="label break-words">
        {{ found.journey }}; {{ run.data.value?.experiment }}
      </p>
    </header>
    <Loading v-if="page.isPending.value" what="the step" />
    <Problem v-else-if="page.isError.value" :error="page.error.value" />
    <div v-else-if="found" class="space-y-6">
      <div class="space-y-1 text-[17px]" data-testid="sentences">
        <p v-for="one in sentences" :key="one">{{ one }}</p>
        <p v-if="!found.goals.length" class="text-ink-2">No objective on its response time.</p>
        <p v-if="lacking(found)" class="label">{{ lacking(found) }}</p>
      </div>
      <div class="grid gap-6 lg:grid-cols-2">
        <section v-if="againstLoad" class="min-w-0" aria-label="Against load">
          <h2>Against load</h2>
          <AnswerRow :drawn="againstLoad" />
        </section>
        <section v-if="overTime" class="min-w-0" aria-label="Over time">
          <h2>Over time</h2>
          <AnswerRow :drawn="overTime" />
        </section>
      </div>
      <TimeColumns
        v-if="found.levels.some((level) => level.phases.length)"
        :levels="found.levels"
        :unit="found.axis"
      />
      <ComponentColumns
        v-if="found.levels.some((level) => level.components.length)"
        :levels="found.levels"
        :unit="found.axis"
      />
      <section v-if="found.levels.length" aria-label="At each level" data-testid="at-levels">
        <h2 class="mb-1">At each level</h2>
        <div class="overflow-x-auto">
          <table>
            <thead>
              <tr>
                <th>Level</th>
                <th>Done</th>
                <th>Failed</th>
                <th>Mean</th>
                <th>50 %</th>
                <th>95 %</th>
                <th>99 %</th>
                <th v-for="goal in found.goals" :key="`${goal.percent} ${goal.limit_s}`">
                  {{ goal.percent }} % within {{ given(goal.limit_s) }}
                </th>
                <th />
              </tr>
            </thead>
            <tbody class="figures">
              <tr v-for="level in found.levels" :key="level.number">
                <td class="font-sans whitespace-nowrap">{{ level.level }}</td>
                <td>{{ users(level.count) }}</td>
                <td :class="level.errors ? 'text-brick' : ''">
                  {{ users(level.errors)
                  }}<template v-if="level.errors">
                    ({{ percent(level.errors / level.count) }})</template
                  >
                </td>
                <td>{{ seconds(level.mean_s) }}</td>
                <td>{{ seconds(level.p50_s) }}</td>
                <td>{{ seconds(level.p95_s) }}</td>
                <td>{{ seconds(level.p99_s) }}</td>
                <td
                  v-for="(at, k) in level.goals"
                  :key="k"
                  class="whitespace-nowrap"
                  :class="at.holds === false ? 'text-brick' : ''"
                >
                  {{ at.holds === null ? '–' : at.holds ? '○ kept' : '✕ missed' }}
                </td>
                <td class="font-sans whitespace-nowrap">
                  <template v-if="level.phases.length">
                    <RouterLink :to="toRequests(level)">the slowest</RouterLink
                    ><template v-if="level.errors"
                      >,
                      <RouterLink :to="toRequests(level, { answer: 'failed' })"
                        >the failed</RouterLink
                      ></template
                    >
                  </template>
                </td>
              </tr>
            </tbody>
          </table>
        </div>
        <p class="label mt-1">In the seconds of each level that its findings count.</p>
      </section>
      <Distribution
        v-if="input"
        :id="id"
        :input="input"
        :shown="shown"
        :live="false"
        :elapsed="run.data.value?.elapsed_s ?? 0"
      />
    </div>
  </div>
</template>
