<script setup lang="ts">
import { computed, ref } from 'vue'
import { useRouter } from 'vue-router'
import { experimentNow, useCreateExperiment } from '@/api/experiments'
import {
  useSeries,
  useSeriesFindings,
  useStartSeries,
  useStopSeries,
  type Between,
} from '@/api/series'
import BlocksPlate from '@/plates/BlocksPlate.vue'
import Action from '@/ui/Action.vue'
import Choice from '@/ui/Choice.vue'
import Loading from '@/ui/Loading.vue'
import Problem from '@/ui/Problem.vue'
import RunState from '@/ui/RunState.vue'
import Sentence from '@/ui/Sentence.vue'
import { counted, given, loadFigure, users, when } from '@/ui/format'
import Ladder from './run/Ladder.vue'
import { heldAt } from './series/again'
import Scaled from './series/Scaled.vue'
import Summary from './series/Summary.vue'
import Turns from './series/Turns.vue'

/** What takes turns. Candidates: who is better, block by block, and what each is. What is scaled: how far adding brings
 * something. And every turn. */
const props = defineProps<{ id: number }>()
const router = useRouter()
const series = useSeries(() => props.id)
const stop = useStopSeries(props.id)
const start = useStartSeries()
const create = useCreateExperiment()
const told = computed(() => series.data.value)
const findings = useSeriesFindings(
  () => props.id,
  () => (told.value?.scaled ? undefined : told.value?.over),
)
const found = computed(() => findings.data.value)

const NAMES: Record<string, string> = { demand: 'busy per step' }
const nameOf = (subject: string, figure: string) =>
  `${subject.split(' / ').at(-1)?.replace('.', ' ')} ${NAMES[figure] ?? figure}`
const key = (subject: string, figure: string) => `${subject}|${figure}`
const chosen = ref<Record<number, string>>({})
/** What is drawn of a comparison: what was chosen, or what stands first. */
function drawnOf(line: Between, place: number) {
  const named = (wanted: string) =>
    line.by_block.find((one) => key(one.subject, one.figure) === wanted)
  const first = line.figures.find((one) => named(key(one.subject, one.figure)))
  const wanted = chosen.value[place] ?? (first ? key(first.subject, first.figure) : '')
  const block = named(wanted)
  const figure = line.figures.find((one) => key(one.subject, one.figure) === wanted)
  return block && figure ? { wanted, block, figure } : null
}
const choices = (line: Between) =>
  line.by_block.map((one) => ({
    value: key(one.subject, one.figure),
    text: nameOf(one.subject, one.figure),
  }))
/** A share as people give it: 5 %. */
const atMost = (share: number) => `${Number((100 * share).toPrecision(3))} %`
const going = computed(() => told.value?.state === 'going')
const under = computed(() => told.value?.lines.find((line) => !line.over))
const round = computed(() => (told.value?.scaled ? 'round' : 'block'))
const progress = computed(() => {
  const line = under.value
  if (!told.value || !line) return ''
  const who = line.value ? `${line.candidate}, ${line.value}` : line.candidate
  const state = !line.run
    ? told.value.cause || 'is next'
    : line.state === 'queued'
      ? 'is being brought under load'
      : `is ${line.state}`
  const left =
    told.value.left_s === null
      ? ''
      : ` About ${given(Math.round(told.value.left_s / 60) * 60 || 60)} are left.`
  return `Turn ${line.number} of ${told.value.turns}, ${round.value} ${line.block} of ${told.value.blocks}: ${who} ${state}.${left}`
})
const bearable = computed(() => {
  const one = found.value?.bearable
  if (!one) return null
  const amount = found.value?.unit === 'users' ? users(Math.round(one.load)) : loadFigure(one.load)
  return { ...one, text: `${amount} ${found.value?.unit}` }
})
const fault = ref('')
async function again() {
  const one = found.value
  const detail = await experimentNow(told.value?.experiment_id ?? 0).catch(() => undefined)
  const source = detail?.document.source
  const text = one?.bearable && source ? heldAt(source, one.bearable.load, one.unit) : null
  if (!text) {
    fault.value = 'The experiment’s text cannot be read just now.'
    return
  }
  fault.value = ''
  const made = await create.mutateAsync(text).catch(() => undefined)
  const begun = made && (await start.mutateAsync(made.id).catch(() => undefined))
  if (begun) await router.push(`/series/${begun.id}`)
  else if (made) await router.push(`/experiments/${made.id}`)
}
</script>

<template>
  <Loading v-if="series.isPending.value" what="the candidates" />
  <Problem v-else-if="series.isError.value" :error="series.error.value" />
  <template v-else-if="told">
    <header class="mb-2 flex flex-wrap items-baseline gap-x-4">
      <h1>
        <RouterLink :to="`/experiments/${told.experiment_id}`">{{ told.experiment }}</RouterLink>:
        {{ told.scaled ? 'scaled' : 'candidates in turns' }}
      </h1>
      <RunState :state="told.state === 'going' ? 'running' : told.state" :seeded="told.seeded" />
      <span class="label"
        >{{ told.system }}, revision {{ told.revision }}, {{ when(told.begun_at) }}</span
      >
    </header>
    <div class="grid gap-6 lg:grid-cols-[2fr_1fr]">
      <div class="min-w-0 space-y-6">
        <Scaled v-if="told.scaled" :series="told" />
        <Loading v-else-if="findings.isPending.value" what="what the turns tell" />
        <Problem v-else-if="findings.isError.value" :error="findings.error.value" />
        <template v-else-if="found">
          <p class="text-[18px]" data-testid="sentence"><Sentence :text="found.sentence" /></p>
          <section v-for="(line, i) in found.between" :key="line.candidate + line.value">
            <h2 class="break-words">
              {{ line.candidate }} against {{ line.against
              }}<template v-if="line.value">, {{ told.factor }} {{ line.value }}</template>
            </h2>
            <p v-if="found.between.length > 1"><Sentence :text="line.sentence" /></p>
            <p class="label mt-1">
              Ratios of {{ line.candidate }} to {{ line.against }} at
              {{
                line.loads
                  .map((at) => (line.unit === 'users' ? users(at) : loadFigure(at)))
                  .join(', ')
              }}
              {{ line.unit }}, over {{ counted(line.blocks.length, 'block') }}, with 95 % intervals
              by the differences within blocks.
              <template v-if="line.left_out_s"
                >Of each turn’s first level {{ given(line.left_out_s) }} are left out.</template
              >
            </p>
            <p v-if="!line.settled" class="mt-1 border-l-2 border-ochre pl-3" role="note">
              <span class="label">Caution: </span>turns had not settled after a third of a level, so
              something of each start is still in the figures. Longer turns would tell of the time
              after it.
            </p>
            <p v-for="why in line.missing" :key="why" class="mt-1 border-l-2 border-ochre pl-3">
              <span class="label">Left out: </span>{{ why }}
            </p>
            <template v-if="drawnOf(line, i)">
              <Choice
                class="mt-3 max-w-xs"
                label="Block by block"
                :options="choices(line)"
                :model-value="drawnOf(line, i)!.wanted"
                @update:model-value="chosen = { ...chosen, [i]: $event ?? '' }"
              />
              <BlocksPlate
                :blocks="line.blocks"
                :planned="told.blocks"
                :ratios="drawnOf(line, i)!.block.ratios"
                :ratio="drawnOf(line, i)!.figure.ratio"
                :stands="drawnOf(line, i)!.figure.stands"
                :matters="told.matters"
                :name="nameOf(drawnOf(line, i)!.block.subject, drawnOf(line, i)!.block.figure)"
              />
            </template>
            <Ladder :figures="line.figures" :unit="line.unit" same="alike" />
          </section>
        </template>
        <Turns :series="told" />
      </div>
      <aside class="min-w-0 space-y-5">
        <section v-if="going" class="space-y-2" aria-label="Under way">
          <p aria-live="polite" data-testid="progress" class="break-words">{{ progress }}</p>
          <Action
            needs="planner"
            kind="danger"
            :busy="stop.isPending.value"
            :disabled="told.stopping"
            @click="stop.mutate()"
          >
            {{ told.stopping ? 'Stopping …' : 'Stop taking turns' }}
          </Action>
          <p v-if="told.stopping" class="label">
            The turn under way ends gracefully; then the system is brought back.
          </p>
          <Problem v-if="stop.isError.value" :error="stop.error.value" />
        </section>
        <section v-else aria-label="How it ended">
          <p class="break-words"><Sentence :text="told.cause" /></p>
        </section>
        <Summary v-if="found" :found="found" :factor="told.factor" />
        <section v-if="!going && bearable" class="space-y-2" aria-label="Again">
          <h2>At a load all can carry</h2>
          <p>{{ bearable.text }}: {{ bearable.reason }}.</p>
          <Action
            needs="planner"
            :busy="create.isPending.value || start.isPending.value"
            @click="again"
          >
            Again at {{ bearable.text }}
          </Action>
          <p class="label">
            Makes a copy of the experiment that holds this load for two minutes a turn, and starts
            it.
          </p>
          <p v-if="fault" class="text-brick" role="alert">✕ {{ fault }}</p>
          <Problem v-if="create.isError.value" :error="create.error.value" />
          <Problem v-if="start.isError.value" :error="start.error.value" />
        </section>
        <p v-if="told.scaled" class="label">
          {{ told.scaled.charAt(0).toUpperCase() + told.scaled.slice(1) }}: in each round every
          value has its turn, in an order drawn at random, so that what drifts meanwhile is the same
          for all.
        </p>
        <p v-else class="label">
          In each block every candidate has its turn, in an order drawn at random, so that what
          drifts meanwhile is the same for all. What is under {{ atMost(told.matters) }} counts as
          no difference.
        </p>
      </aside>
    </div>
  </template>
</template>
