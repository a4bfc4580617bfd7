<script setup lang="ts">
import { computed } from 'vue'
import { partsOf, wholeOf, type StepAtLevel } from '@/api/step'
import { loadFigure, seconds, shareOf } from '@/ui/format'

/** What a step's mean time was made of at each level: a column each, phases as hatches of one ink. */
const props = defineProps<{ levels: StepAtLevel[]; unit: string }>()
const known = computed(() => props.levels.filter((level) => wholeOf(level) > 0))
const most = computed(() => Math.max(...known.value.map(wholeOf), 0))
/** Each phase that any level spent time with, the one that took most at the highest first. */
const phases = computed(() => {
  const found = new Map<string, string>()
  for (const level of known.value.toReversed())
    for (const part of partsOf(level).toSorted((a, b) => b.seconds - a.seconds))
      found.set(part.phase, found.get(part.phase) ?? part.name)
  return [...found].map(([phase, name]) => ({ phase, name }))
})
const servers = computed(() => [
  ...new Set(known.value.flatMap((level) => level.servers.map((server) => server.name))),
])
const ofPhase = (level: StepAtLevel, phase: string) =>
  level.phases.find((one) => one.phase === phase)?.mean_s ?? 0
const ofServer = (level: StepAtLevel, name: string) =>
  level.servers.find((one) => one.name === name)?.mean_s
const share = (part: number, whole: number) => (part > 0 ? shareOf(part / whole) : '–')
/** What is thinner could not be seen. */
const THIN = 0.01
const drawnOf = (level: StepAtLevel) =>
  partsOf(level).filter((part) => part.seconds / wholeOf(level) >= THIN)
</script>

<template>
  <section aria-label="Where its time goes" data-testid="time">
    <h2 class="mb-1">Where its time goes</h2>
    <div class="flex h-44 items-end gap-2 border-b border-rule" aria-hidden="true">
      <div
        v-for="level in known"
        :key="level.number"
        class="flex max-w-16 min-w-2 flex-1 flex-col-reverse text-copper"
        :style="{ height: `${(100 * wholeOf(level)) / most}%` }"
        :title="`${level.level}: ${seconds(wholeOf(level))}`"
      >
        <span
          v-for="part in drawnOf(level)"
          :key="part.phase"
          class="block w-full border border-current"
          :class="`hatch-${part.phase}`"
          :style="{ height: `${(100 * part.seconds) / wholeOf(level)}%` }"
        />
      </div>
    </div>
    <div class="figures flex gap-2 text-[12px] text-ink-2" aria-hidden="true">
      <span
        v-for="level in known"
        :key="level.number"
        class="max-w-16 min-w-2 flex-1 text-center"
        >{{ loadFigure(level.load) }}</span
      >
      <span>{{ unit }}</span>
    </div>
    <div class="mt-2 overflow-x-auto">
      <table>
        <thead>
          <tr>
            <th>Mean of what succeeded</th>
            <th
              v-for="level in known"
              :key="level.number"
              class="!pr-2 text-right whitespace-nowrap"
            >
              {{ loadFigure(level.load) }}
            </th>
          </tr>
        </thead>
        <tbody class="figures">
          <tr>
            <th scope="row" class="font-sans !text-[13.5px] !text-ink">all of it</th>
            <td
              v-for="level in known"
              :key="level.number"
              class="!pr-2 text-right whitespace-nowrap"
            >
              {{ seconds(wholeOf(level)) }}
            </td>
          </tr>
          <tr v-for="{ phase, name } in phases" :key="phase">
            <th scope="row" class="font-sans !text-[13.5px] whitespace-nowrap !text-ink">
              <span
                class="mr-2 inline-block h-3 w-4 border border-current align-[-1px] text-copper"
                :class="`hatch-${phase}`"
              />{{ name }}
            </th>
            <td
              v-for="level in known"
              :key="level.number"
              class="!pr-2 text-right whitespace-nowrap"
              :title="seconds(ofPhase(level, phase))"
            >
              {{ share(ofPhase(level, phase), wholeOf(level)) }}
            </td>
          </tr>
          <tr v-for="name in servers" :key="name">
            <th scope="row" class="pl-6 font-sans !text-[13.5px] whitespace-nowrap">
              of the waiting, {{ name }} says
            </th>
            <td
              v-for="level in known"
              :key="level.number"
              class="!pr-2 text-right whitespace-nowrap"
            >
              {{ seconds(ofServer(level, name)) }}
            </td>
          </tr>
        </tbody>
      </table>
    </div>
    <p class="label">
      Of main requests; what a step waited for beyond them is <em>further requests</em>. Servers
      tell their time in <code>Server-Timing</code>; one may count the time of another within its
      own.
    </p>
  </section>
</template>
