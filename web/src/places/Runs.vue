<script setup lang="ts">
import { useIntervalFn } from '@vueuse/core'
import { computed, ref } from 'vue'
import { useRouter } from 'vue-router'
import { useRuns } from '@/api/queries'
import { useComing } from '@/api/schedules'
import Action from '@/ui/Action.vue'
import LoadSketch from '@/ui/LoadSketch.vue'
import Loading from '@/ui/Loading.vue'
import Problem from '@/ui/Problem.vue'
import RunState from '@/ui/RunState.vue'
import Sentence from '@/ui/Sentence.vue'
import { when } from '@/ui/format'
import { dayAndTime, inWords } from './experiment/times'
import AgainstBaseline from './run/AgainstBaseline.vue'

const router = useRouter()
const before = ref<number[]>([])
const runs = useRuns(() => (before.value.length ? { before: before.value.at(-1) } : {}))
const list = computed(() => runs.data.value?.runs ?? [])
/** The turns of a series that stand together as one row, until they are wanted. */
const opened = ref<number[]>([])
type Line = NonNullable<typeof runs.data.value>['runs'][number]
const rows = computed(() => {
  const found: { run: Line; turns: Line[] }[] = []
  for (const run of list.value) {
    const last = found.at(-1)
    if (run.series_id !== null && last?.run.series_id === run.series_id) last.turns.push(run)
    else found.push({ run, turns: [run] })
  }
  return found.flatMap((row) =>
    row.turns.length > 1 && opened.value.includes(row.run.series_id ?? 0)
      ? row.turns.map((run) => ({ run, turns: [run] }))
      : [row],
  )
})
const coming = useComing()
const now = ref(new Date())
useIntervalFn(() => (now.value = new Date()), 1_000)
const own = Intl.DateTimeFormat().resolvedOptions().timeZone
const OFTEN = { '': 'once', day: 'each day', weekday: 'each weekday', week: 'each week' }
function older() {
  const last = list.value.at(-1)
  if (last) before.value = [...before.value, last.id]
}
</script>

<template>
  <h1 class="mb-4">Runs</h1>
  <section v-if="coming.data.value?.length" class="mb-6" aria-label="To come">
    <h2 class="mb-1">To come</h2>
    <ul>
      <li v-for="one in coming.data.value" :key="one.id" class="break-words">
        <RouterLink :to="`/experiments/${one.experiment_id}`">{{ one.experiment }}</RouterLink>
        begins {{ inWords(new Date(one.next_at!), now) }}:
        {{ dayAndTime(new Date(one.next_at!), own) }} your time, {{ OFTEN[one.every] }}.
        <span class="label">{{ one.by }}</span>
      </li>
    </ul>
  </section>
  <Loading v-if="runs.isPending.value" what="the runs" />
  <Problem v-else-if="runs.isError.value" :error="runs.error.value" />
  <div v-else-if="!list.length" class="py-8">
    <p class="max-w-prose">
      No run yet. Open an experiment and start one; the demo's quick look takes a minute.
    </p>
    <Action class="mt-4" kind="primary" @click="router.push('/experiments')"
      >Go to the experiments</Action
    >
  </div>
  <template v-else>
    <div class="overflow-x-auto">
      <table>
        <thead>
          <tr>
            <th>Run</th>
            <th>State</th>
            <th>Experiment</th>
            <th>Load</th>
            <th class="w-1/2">Verdict</th>
            <th>Started</th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="{ run, turns } in rows" :key="run.id">
            <template v-if="turns.length > 1">
              <td>Runs {{ turns.at(-1)?.id }}–{{ run.id }}</td>
              <td>
                <RunState :state="run.state" :simulated="run.simulated" :seeded="run.seeded" />
              </td>
              <td>
                <RouterLink :to="`/experiments/${run.experiment_id}`" class="break-words">{{
                  run.experiment
                }}</RouterLink>
              </td>
              <td><LoadSketch :load="run.load" /></td>
              <td class="break-words">
                <RouterLink :to="`/series/${run.series_id}`">In turns</RouterLink>,
                {{ turns.length }} of them here.
                <button
                  type="button"
                  class="underline"
                  @click="opened = [...opened, run.series_id ?? 0]"
                >
                  Show each
                </button>
              </td>
              <td class="whitespace-nowrap">{{ when(run.queued_at) }}</td>
            </template>
            <template v-else>
              <td class="whitespace-nowrap">
                <RouterLink :to="`/runs/${run.id}`">Run {{ run.id }}</RouterLink>
              </td>
              <td>
                <RunState :state="run.state" :simulated="run.simulated" :seeded="run.seeded" />
              </td>
              <td>
                <RouterLink :to="`/experiments/${run.experiment_id}`" class="break-words">{{
                  run.experiment
                }}</RouterLink>
                <span class="label block">{{ run.turn || `revision ${run.revision}` }}</span>
              </td>
              <td><LoadSketch :load="run.load" /></td>
              <td class="break-words">
                <Sentence :text="run.verdict || run.cause" />
                <AgainstBaseline v-if="run.against" :run="run.id" :against="run.against" />
                <span v-if="run.remark" class="label block">{{ run.remark }}</span>
              </td>
              <td class="whitespace-nowrap">{{ when(run.queued_at) }}</td>
            </template>
          </tr>
        </tbody>
      </table>
    </div>
    <div class="mt-4 flex gap-2">
      <Action v-if="before.length" @click="before = before.slice(0, -1)">Newer runs</Action>
      <Action v-if="runs.data.value?.more" @click="older">Older runs</Action>
    </div>
  </template>
</template>
