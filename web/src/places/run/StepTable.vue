<script setup lang="ts">
import { useElementVisibility } from '@vueuse/core'
import { computed, ref, useTemplateRef, watch } from 'vue'
import { requestsOf } from '@/api/requests'
import type { Shown } from '@/api/livePlate'
import { useSteps } from '@/api/steps'
import Problem from '@/ui/Problem.vue'
import Spark from '@/ui/Spark.vue'
import { amount, clock, figure, given, percent, seconds, users } from '@/ui/format'
import SortHead from './SortHead.vue'
import { arranged, COLUMNS, FURTHER, type Column, type StepLine } from './stepTable'

/** What each journey and step did in the stretch that is looked at. */
const props = defineProps<{
  id: number
  shown: Shown
  live: boolean
  elapsed: number
  /** Whether there are single requests to show. */
  singly: boolean
}>()
const emit = defineEmits<{ isolate: [string] }>()

const stretch = computed(() => {
  const { from_s, until_s, last_s } = props.shown
  return { from_s, until_s, last_s }
})
/** Where nobody sees the table, nobody asks for it. */
const seen = useElementVisibility(useTemplateRef<HTMLElement>('section'))
const table = useSteps(
  () => props.id,
  stretch,
  () => props.live && seen.value,
  () => {
    const { from_s, until_s, last_s } = stretch.value
    return until_s ? until_s - from_s : Math.min(last_s || props.elapsed, props.elapsed)
  },
)
watch([seen, () => props.live], () => seen.value && void table.refetch())
const sought = ref('')
const by = ref<Column>('name')
const falling = ref(false)
const folded = ref(new Set<string>())
const lines = computed(() =>
  arranged(table.data.value?.lines ?? [], {
    sought: sought.value,
    by: by.value,
    falling: falling.value,
    folded: folded.value,
  }),
)
const many = computed(() => (table.data.value?.lines.length ?? 0) > 8)
const address = (kind: string) => {
  const query = new URLSearchParams(
    Object.entries(stretch.value).map(([name, value]) => [name, String(value)]),
  )
  return `/api/runs/${props.id}/steps.${kind}?${query.toString()}`
}
function sort(column: Column) {
  if (by.value === column) falling.value = !falling.value
  else {
    by.value = column
    falling.value = column !== 'name'
  }
}
function fold(id: string) {
  const now = new Set(folded.value)
  if (!now.delete(id)) now.add(id)
  folded.value = now
}
function cell(line: StepLine, column: Column): string {
  switch (column) {
    case 'count':
    case 'errors':
      return users(line[column])
    case 'rate':
      return figure(line.rate)
    case 'error_share':
      return percent(line.error_share)
    case 'received':
      return line.received === null ? '–' : amount(line.received, 'B')
    default:
      return column === 'name' ? line.name : seconds(line[column])
  }
}
/** What asks for the single steps behind a number. */
const within = (column: Column) => ({
  from_s: table.data.value?.from_s ?? 0,
  until_s: table.data.value?.until_s ?? 0,
  answer: column === 'errors' ? 'failed' : '',
})
const worst = (line: StepLine) =>
  line.goals.toSorted((a, b) => (b.value_s ?? 0) / b.limit_s - (a.value_s ?? 0) / a.limit_s)[0]
</script>

<template>
  <section ref="section" class="mt-4 space-y-2" aria-label="Journeys and steps" data-testid="steps">
    <div class="flex flex-wrap items-baseline gap-x-4 gap-y-1">
      <h2>Journeys and steps</h2>
      <span v-if="table.data.value" class="label figures"
        >{{ clock(table.data.value.from_s) }} to {{ clock(table.data.value.until_s) }}</span
      >
      <input
        v-if="many || sought"
        v-model="sought"
        type="search"
        class="field !w-40"
        aria-label="Find a step"
        placeholder="find a step"
      />
      <span class="label ml-auto">
        <a :href="address('csv')" download>CSV</a> · <a :href="address('xlsx')" download>XLSX</a>
      </span>
    </div>
    <Problem v-if="table.isError.value" :error="table.error.value" />
    <p v-if="!singly" class="label">
      Of a run that came with the product counts and means were kept, and its percentiles over time.
    </p>
    <div v-if="lines.length" class="overflow-x-auto">
      <table>
        <thead>
          <tr>
            <SortHead
              v-for="column in COLUMNS"
              :key="column.id"
              :head="column.head"
              :sorted="by === column.id ? (falling ? 'descending' : 'ascending') : undefined"
              :class="column.id === 'name' ? 'sticky left-0 bg-paper' : ''"
              @sort="sort(column.id)"
            />
            <th>Objective</th>
            <th>p95 over time</th>
            <SortHead
              v-for="column in FURTHER"
              :key="column.id"
              :head="column.head"
              :sorted="by === column.id ? (falling ? 'descending' : 'ascending') : undefined"
              @sort="sort(column.id)"
            />
          </tr>
        </thead>
        <tbody class="figures">
          <tr v-for="line in lines" :key="line.id" :data-line="line.id">
            <td
              v-for="column in COLUMNS"
              :key="column.id"
              class="whitespace-nowrap"
              :class="column.id === 'name' ? 'sticky left-0 max-w-56 bg-paper font-sans' : ''"
            >
              <template v-if="column.id === 'name'">
                <button
                  v-if="line.steps"
                  type="button"
                  class="mr-1 w-4 text-ink-2"
                  :aria-expanded="!folded.has(line.id)"
                  :aria-label="`Steps of ${line.name}`"
                  @click="fold(line.id)"
                >
                  {{ folded.has(line.id) ? '▸' : '▾' }}
                </button>
                <button
                  type="button"
                  class="max-w-48 truncate align-bottom hover:underline"
                  :class="[
                    line.within ? 'ml-5' : '',
                    shown.of === line.id ? 'text-copper' : '',
                    line.kind === 'journey' ? 'font-semibold' : '',
                  ]"
                  :title="`Show ${line.name} alone in the response row`"
                  :aria-pressed="shown.of === line.id"
                  @click="emit('isolate', shown.of === line.id ? '' : line.id)"
                >
                  <span v-if="line.kind === 'region'" class="label">Region</span> {{ line.name }}
                </button>
                <RouterLink
                  v-if="line.kind === 'step'"
                  class="label ml-1"
                  :to="`/runs/${id}/steps/${line.id}`"
                  :aria-label="`More of ${line.name}`"
                  >more</RouterLink
                >
              </template>
              <RouterLink
                v-else-if="
                  singly && (column.id === 'count' || column.id === 'errors') && line[column.id]
                "
                :to="requestsOf(id, { of: line.id === 'all' ? '' : line.id, ...within(column.id) })"
                :aria-label="`The ${cell(line, column.id)} of ${line.name} one by one`"
                >{{ cell(line, column.id) }}</RouterLink
              >
              <span
                v-else
                :class="column.id === 'error_share' && line.errors ? 'text-brick' : ''"
                >{{ cell(line, column.id) }}</span
              >
            </td>
            <td class="whitespace-nowrap">
              <span
                v-if="worst(line)"
                :class="worst(line)!.holds === false ? 'text-brick' : ''"
                :title="`${worst(line)!.percent} % within ${given(worst(line)!.limit_s)}`"
              >
                {{
                  worst(line)!.holds === null ? '–' : worst(line)!.holds ? '○ holds' : '✕ missed'
                }}
                <template v-if="worst(line)!.value_s !== null"
                  >{{ seconds(worst(line)!.value_s) }} of
                  {{ given(worst(line)!.limit_s) }}</template
                >
              </span>
            </td>
            <td><Spark :values="line.trend" :label="`p95 of ${line.name} over time`" small /></td>
            <td v-for="column in FURTHER" :key="column.id" class="whitespace-nowrap">
              {{ cell(line, column.id) }}
            </td>
          </tr>
        </tbody>
      </table>
    </div>
    <p v-else-if="sought" class="text-ink-2">No step is called so.</p>
    <p v-else-if="table.isPending.value" class="text-ink-2" role="status">Reading the steps …</p>
  </section>
</template>
