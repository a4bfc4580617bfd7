<script setup lang="ts">
import { computed, nextTick, ref, watch } from 'vue'
import { useRouter } from 'vue-router'
import type { Schemas } from '@/api/client'
import { useWhole } from '@/api/aside'
import { useCurves } from '@/api/curves'
import { useRun } from '@/api/queries'
import { requestsOf } from '@/api/requests'
import AxisSwitch from '@/plates/AxisSwitch.vue'
import LevelTable from '@/plates/LevelTable.vue'
import Overview from '@/plates/Overview.vue'
import RunPlate, { type Highlight } from '@/plates/RunPlate.vue'
import { toggled } from '@/plates/arrangement'
import type { LevelPoint, PlateInput } from '@/plates/view'
import Loading from '@/ui/Loading.vue'
import Problem from '@/ui/Problem.vue'
import WhoDidWhat from '@/ui/WhoDidWhat.vue'
import { clock, counted, load, rate, seconds } from '@/ui/format'
import CompareWith from './run/CompareWith.vue'
import Cost from './run/Cost.vue'
import Distribution from './run/Distribution.vue'
import ExpectedPeak from './run/ExpectedPeak.vue'
import Errors from './run/Errors.vue'
import Downloads from './run/Downloads.vue'
import Head from './run/Head.vue'
import Health from './run/Health.vue'
import History from './run/History.vue'
import LeftOut from './run/LeftOut.vue'
import LongerLevels from './run/LongerLevels.vue'
import Markers from './run/Markers.vue'
import Moving from './run/Moving.vue'
import RoomForMore from './run/RoomForMore.vue'
import Regions from './run/Regions.vue'
import Rows from './run/Rows.vue'
import RowTable from './run/RowTable.vue'
import Notes from './run/Notes.vue'
import Notices from './run/Notices.vue'
import NowStanding from './run/NowStanding.vue'
import Standing from './run/Standing.vue'
import StepTable from './run/StepTable.vue'
import SystemChanges from './run/SystemChanges.vue'
import Underway from './run/Underway.vue'
import WindowChoice from './run/WindowChoice.vue'
import People from './run/People.vue'
import PlateChoices from './run/PlateChoices.vue'
import RunMeters from './run/RunMeters.vue'
import RunRoom from './run/RunRoom.vue'
import { useShortcuts } from '@/ui/shortcuts'
import { useLooking } from './run/looking'
import { useRows } from './run/rows'
import { boundaryOf, flagsOf, knownSoFar, whyNothing } from './run/told'
import { tokens } from '@/ui/theme'

const router = useRouter()
const props = defineProps<{ id: number }>()
const run = useRun(() => props.id)
const live = computed(() => run.data.value !== undefined && !run.data.value.ended)
const { axis, shown, asked, frozen, following, plate, whole, stretch, look, lookAround } =
  useLooking(() => props.id, live)
watch(
  () => plate.data.value?.story,
  (now, before) => before !== undefined && now !== before && void run.refetch(),
)
watch(
  () => plate.data.value?.state,
  (state) => {
    if (live.value && state !== run.data.value?.state) void run.refetch()
  },
)
const experiment = computed(() => run.data.value?.experiment_id)
const { arrangement, rows: allRows } = useRows(experiment, () => input.value)
const hovered = ref<Highlight | null>(null)
const selected = ref<number | null>(null)

/** Whether the findings of the whole run are shown, where a stretch is left out of those in force. */
const ofWhole = ref(false)
const wholeFindings = useWhole(
  () => props.id,
  () => ofWhole.value && Boolean(run.data.value?.set_aside.length),
)
const result = computed(() =>
  ofWhole.value && wholeFindings.data.value ? wholeFindings.data.value : run.data.value?.result,
)
const levels = computed(
  () => (result.value?.findings as { levels: LevelPoint[] } | null | undefined)?.levels ?? [],
)
const fitted = useCurves(
  () => props.id,
  () => axis.value === 'load' && levels.value.length > 0 && !live.value,
  () => run.data.value?.verdict ?? '',
)
const asideTold = computed(() =>
  (run.data.value?.set_aside ?? [])
    .map((one) => `${clock(one.from_s)} to ${clock(one.until_s)}`)
    .join(', '),
)
/** What was found, with the room above the expected peak after the limit that it is of. */
const notes = computed(() => {
  const room = ofWhole.value ? null : run.data.value?.headroom
  const found = result.value?.notes ?? []
  return room ? found.flatMap((note) => (note.kind === 'comfort' ? [note, room] : [note])) : found
})

const goals = computed(() =>
  (run.data.value?.outline.goals ?? []).map((g) => ({
    label: g.label,
    limit: g.limit_s,
    of: g.of,
  })),
)
const flags = computed(() =>
  run.data.value ? flagsOf(run.data.value, plate.data.value?.events ?? []) : [],
)
const input = computed<PlateInput | null>(() => {
  if (!plate.data.value || !run.data.value) return null
  return {
    axis: axis.value,
    plate: plate.data.value,
    profile: run.data.value.outline.profile,
    levels: levels.value,
    comfort: boundaryOf(notes.value, 'comfort'),
    saturation: boundaryOf(notes.value, 'saturation'),
    goals: goals.value,
    flags: flags.value,
    aside: run.data.value.set_aside,
    window: stretch.value,
    prospect: prospect.value,
    arrangement: arrangement.value,
    tokens: tokens.value,
    ...(fitted.data.value ? { curves: fitted.data.value } : {}),
  }
})
/** What would come of what somebody is about to ask. */
const prospect = ref<Schemas['ProfileOutline'] | null>(null)
/** What is ordered now, by group. */
const ordered = computed(() =>
  Object.fromEntries(
    (plate.data.value?.groups ?? []).map((group) => [
      group.name,
      group.ordered.findLast((one) => one !== null) ?? 0,
    ]),
  ),
)
const pointed = ref<number | null>(null)
/** The moment that is pointed at or looked at, if any. */
const here = computed(() =>
  pointed.value !== null && axis.value === 'clock'
    ? Math.max(0, Math.round(pointed.value))
    : level.value
      ? Math.round(level.value.start_s)
      : null,
)
const highlight = computed<Highlight | null>(() => {
  if (hovered.value) return hovered.value
  const level = levels.value.find((l) => l.number === selected.value)
  return level ? { rows: [], low: level.load.delivered, high: level.load.delivered } : null
})
/** The single requests of the level or the stretch that is looked at. */
const singly = computed(() => {
  const { of, last_s } = shown.value
  const piece = level.value
    ? { from: Math.ceil(level.value.start_s), until: Math.floor(level.value.end_s) }
    : (stretch.value ?? { from: last_s ? Math.max(0, elapsed.value - last_s) : 0, until: 0 })
  const query = { of: of === 'all' ? '' : of, from_s: piece.from, until_s: piece.until }
  return requestsOf(props.id, query)
})
const rehearsal = computed(() => run.data.value?.simulated && !run.data.value.seeded)
const unbased = ref('')
function compare() {
  const { baseline, against } = run.data.value ?? {}
  const other = baseline === props.id ? against?.run : (baseline ?? against?.run)
  if (other) void router.push(`/runs/${props.id}/against/${other}`)
  else
    unbased.value = rehearsal.value
      ? 'A rehearsal has no baseline: it was not measured.'
      : baseline === props.id
        ? 'This run is the baseline itself.'
        : 'There is no baseline to compare with yet.'
}
const elapsed = computed(() =>
  Math.max(plate.data.value?.elapsed_s ?? 0, run.data.value?.elapsed_s ?? 0),
)
const level = computed(() => levels.value.find((l) => l.number === selected.value))

function show({ rows, at, low, high }: Schemas['Evidence']) {
  hovered.value = { rows, low: low ?? at ?? null, high: high ?? at ?? null }
}
/** A row of the plate, shown where it was hidden, lit, and moved into sight. */
async function showRow(row: string) {
  if (arrangement.value.hidden.includes(row)) arrangement.value = toggled(arrangement.value, row)
  if (!allRows.value.some((one) => one.id === row)) await plate.refetch()
  hovered.value = { rows: [row], low: null, high: null }
  await nextTick()
  document
    .querySelector(`[data-row="${CSS.escape(row)}"]`)
    ?.scrollIntoView({ block: 'center', behavior: 'smooth' })
}
function step(by: number) {
  const count = levels.value.length
  if (!count) return
  const here = selected.value ?? (by > 0 ? 0 : count + 1)
  selected.value = Math.min(count, Math.max(1, here + by))
}
useShortcuts([
  {
    keys: 'Z',
    says: 'The selected level alone, or the whole run',
    act: () => {
      const at = level.value
      look(
        stretch.value || !at ? null : { from: Math.floor(at.start_s), until: Math.ceil(at.end_s) },
      )
      axis.value = 'clock'
    },
  },
  { keys: 'B', says: 'Compare with the baseline', act: compare },
  {
    keys: 'L',
    says: 'Load axis or clock axis',
    act: () => (axis.value = axis.value === 'clock' ? 'load' : 'clock'),
  },
  {
    keys: 'F',
    says: 'Freeze the picture, or follow again',
    act: () => (frozen.value = live.value && !frozen.value),
  },
  {
    keys: 'R',
    says: 'Single requests of what is looked at',
    act: () => void router.push(singly.value),
  },
  { keys: '[', says: 'Previous level', act: () => step(-1) },
  { keys: ']', says: 'Next level', act: () => step(1) },
  { keys: 'Escape', says: 'No level selected', act: () => (selected.value = null) },
])
</script>

<template>
  <Loading v-if="run.isPending.value" what="the run" />
  <Problem v-else-if="run.isError.value && !run.data.value" :error="run.error.value" />
  <div v-else-if="run.data.value" class="grid gap-8 lg:grid-cols-[2fr_1fr]">
    <aside
      class="min-w-0 space-y-5 lg:sticky lg:top-4 lg:order-2 lg:max-h-[calc(100vh-2rem)] lg:self-start lg:overflow-y-auto"
      aria-label="Findings"
    >
      <Head :run="run.data.value">
        <Problem v-if="run.isError.value" :error="run.error.value" />
      </Head>

      <Underway
        v-if="live"
        :run="run.data.value"
        :elapsed="elapsed"
        :ordered="ordered"
        @prospect="prospect = $event"
      />
      <div
        v-else-if="run.data.value.state !== 'finished'"
        class="border-l-2 pl-3"
        :class="run.data.value.state === 'failed' ? 'border-brick' : 'border-ochre'"
        role="status"
        data-testid="ending"
      >
        <p class="break-words">{{ run.data.value.cause }}</p>
        <p v-if="result" class="label">What was recorded until then is analysed below.</p>
      </div>

      <section v-if="live && run.data.value.begun_at" class="space-y-3" data-testid="living">
        <p class="label" role="status">{{ knownSoFar(run.data.value.living) }}</p>
        <Notes
          v-if="run.data.value.living"
          :notes="run.data.value.living.notes"
          @show="show"
          @hide="hovered = null"
        />
      </section>
      <NowStanding v-if="live" :lines="plate.data.value?.standing ?? []" />
      <p
        v-if="run.data.value.set_aside.length && notes.length"
        class="label"
        data-testid="rests-on"
      >
        {{
          ofWhole
            ? 'Of the whole run, with what is left out of the findings in force.'
            : `Without ${asideTold} left out.`
        }}
      </p>
      <Notes
        v-if="notes.length"
        :notes="notes"
        v-bind="result?.findings && !live && !ofWhole ? { run: id } : {}"
        data-testid="notes"
        @show="show"
        @hide="hovered = null"
      />

      <ExpectedPeak v-if="result?.findings && !live" :key="id" :run="run.data.value" />
      <Notices
        v-if="run.data.value.begun_at && (live || run.data.value.noticed.length)"
        :notices="run.data.value.noticed"
        :live="live"
        @look="lookAround"
        @show="show({ rows: [$event], at: null, low: null, high: null })"
        @hide="hovered = null"
      />
      <p v-if="result && !result.findings" class="label" data-testid="older-findings">
        These findings are of an older analysis, which kept no figures of levels that can be drawn.
        <code>./kettle reanalyse {{ id }}</code> makes them anew.
      </p>

      <SystemChanges
        v-if="run.data.value.begun_at && !rehearsal"
        :key="id"
        :run="id"
        :live="live"
        :loading="run.data.value.state === 'running'"
        :marked="run.data.value.markers.length"
        @look="lookAround"
        @moved="run.refetch()"
      />
      <Markers
        v-if="run.data.value.begun_at && !rehearsal"
        :run="run.data.value"
        :live="live"
        :here="here"
        @look="lookAround"
      />
      <LeftOut
        v-if="result?.findings && !live && !run.data.value.seeded"
        :key="id"
        v-model:whole="ofWhole"
        :run="run.data.value"
        :stretch="stretch"
        @look="lookAround"
      />
      <LongerLevels
        v-if="rehearsal && levels.length && !run.data.value.outline.profile.at_most"
        :run="id"
      />
      <Standing v-if="result?.findings && !live && !rehearsal" :run="run.data.value" />
      <Cost
        v-if="result && !live && run.data.value.outline.cost !== null"
        :run="id"
        :of="notes.map((note) => note.title).join()"
      />
      <p v-if="unbased" class="label" role="status">{{ unbased }}</p>
      <CompareWith
        v-if="result?.findings && !live"
        :run="id"
        :experiment="run.data.value.experiment_id"
      />
      <Downloads v-if="result && !live" :run="id" />
      <RunRoom v-if="run.data.value.room" :run="run.data.value" />
      <WhoDidWhat :id="id" :key="`${run.data.value.state} ${plate.data.value?.story}`" kind="run" />
    </aside>

    <div class="min-w-0">
      <div class="mb-2 flex flex-wrap items-center gap-3">
        <AxisSwitch v-model="axis" />
        <PlateChoices v-if="input" v-model="shown" :plate="input.plate" />
        <Rows v-if="allRows.length" v-model="arrangement" :rows="allRows" />
        <template v-if="axis === 'clock'">
          <WindowChoice v-model="shown" v-model:frozen="frozen" :live="live" />
        </template>
        <RouterLink v-if="input?.plate.t.length && !run.data.value.seeded" :to="singly">
          Single requests
        </RouterLink>
      </div>
      <p v-if="frozen && live" class="label mb-1" role="status" data-testid="frozen">
        Frozen at {{ clock(plate.data.value?.elapsed_s ?? 0) }}; the run goes on and is recorded.
      </p>
      <Regions
        v-if="input && input.plate.t.length && input.plate.regions.length > 1"
        :input="input"
        :highlight="highlight"
        :experiment="run.data.value.experiment_id"
        :system="run.data.value.outline.system.name"
        @window="look"
        @point="pointed = $event"
      />
      <RunPlate
        v-else-if="input && input.plate.t.length"
        :input="input"
        :highlight="highlight"
        @window="look"
        @point="pointed = $event"
      />
      <p v-else class="py-16 text-center text-ink-2" role="status">
        {{ whyNothing(run.data.value) }}
      </p>
      <Overview
        v-if="stretch && whole.data.value?.t.length"
        class="mt-1"
        :plate="whole.data.value"
        :profile="run.data.value.outline.profile"
        :stretch="stretch"
        @window="look"
      />
      <p v-if="level" class="mt-2" data-testid="level">
        <strong>Level {{ level.number }}</strong
        >, {{ clock(level.start_s) }} to {{ clock(level.end_s) }}:
        {{ load(level.load.delivered, run.data.value!.outline.profile.axis) }},
        {{ rate(level.throughput) }}, half within {{ seconds(level.p50_s) }}, 95 % within
        {{ seconds(level.p95_s) }}.
      </p>
      <details v-if="levels.length && input" class="mt-3">
        <summary class="label cursor-pointer">
          Table of {{ counted(levels.length, 'level') }}
        </summary>
        <LevelTable class="mt-2" :input="input" :selected="selected" @select="selected = $event" />
      </details>
      <Health
        v-if="result?.findings && !live"
        :run="id"
        :of="notes.map((note) => note.title).join()"
        :selected="selected"
        @select="selected = $event"
      />
      <RoomForMore
        v-if="result?.findings && !live"
        :run="id"
        :of="notes.map((note) => note.title).join()"
      />
      <RowTable v-if="input && input.plate.t.length" :input="input" />
      <StepTable
        v-if="input && input.plate.t.length"
        :id="id"
        :shown="asked"
        :live="following"
        :elapsed="elapsed"
        :singly="!run.data.value.seeded"
        @isolate="shown = { ...shown, of: $event, split: '' }"
      />
      <Distribution
        v-if="input && input.plate.t.length && !run.data.value.seeded"
        :id="id"
        :input="input"
        :shown="asked"
        :live="following"
        :elapsed="elapsed"
      />
      <Errors
        v-if="input && input.plate.t.length"
        :id="id"
        :input="input"
        :shown="asked"
        :live="following"
        :elapsed="elapsed"
        @look="lookAround"
        @isolate="shown = { ...shown, of: $event, split: '' }"
      />
      <Moving
        v-if="input && input.plate.t.length"
        :id="id"
        :system="run.data.value.system_id"
        :input="input"
        :shown="asked"
        :live="following"
        @show="showRow"
      />
      <People
        v-if="input && input.plate.t.length && !run.data.value.seeded"
        :id="id"
        :shown="asked"
        :live="following"
      />
      <RunMeters :run="run.data.value" :events="plate.data.value?.events ?? []" />
      <History :run="run.data.value" />
    </div>
  </div>
</template>
