<script setup lang="ts">
import { useIntervalFn } from '@vueuse/core'
import { computed, ref } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import {
  useArchiveExperiment,
  useDuplicateExperiment,
  useReadiness,
  useRehearse,
} from '@/api/experiments'
import { useHalt } from '@/api/now'
import { useRuns, useStartRun } from '@/api/queries'
import { useStartSeries } from '@/api/series'
import { useSystems } from '@/api/systems'
import Action from '@/ui/Action.vue'
import Choice from '@/ui/Choice.vue'
import CopyAndArchive from '@/ui/CopyAndArchive.vue'
import DraftFrame from '@/ui/DraftFrame.vue'
import Field from '@/ui/Field.vue'
import JobProgress from '@/ui/JobProgress.vue'
import Problem from '@/ui/Problem.vue'
import RunState from '@/ui/RunState.vue'
import Sentence from '@/ui/Sentence.vue'
import TargetNotice from '@/ui/TargetNotice.vue'
import WhoDidWhat from '@/ui/WhoDidWhat.vue'
import { given, loadFigure, users, when } from '@/ui/format'
import { useRole } from '@/ui/role'
import BeforeStart from './experiment/BeforeStart.vue'
import CandidatesForm from './experiment/CandidatesForm.vue'
import ForecastPlate from './experiment/ForecastPlate.vue'
import JourneysForm from './experiment/JourneysForm.vue'
import LoadEditor from './experiment/LoadEditor.vue'
import ObjectivesForm from './experiment/ObjectivesForm.vue'
import OverTime from './experiment/OverTime.vue'
import ScalingForm from './experiment/ScalingForm.vue'
import Revisions from './experiment/Revisions.vue'
import Schedules from './experiment/Schedules.vue'
import SeriesList from './experiment/SeriesList.vue'
import StopForm from './experiment/StopForm.vue'
import TimelineForm from './experiment/TimelineForm.vue'
import TextView from './experiment/TextView.vue'
import WaitsForm from './experiment/WaitsForm.vue'
import { useDocument } from './experiment/document'
import { providePlan } from './experiment/plan'

const FEW_RUNS = 5
const props = defineProps<{ id: number }>()
const router = useRouter()
const route = useRoute()
const { reads } = useRole()
const draft = useDocument(props.id)
const { doc, query, saving, commit } = draft
const source = computed({
  get: () => doc.value?.source ?? '',
  set: (text) => doc.value && (doc.value.source = text),
})
const fixed = computed(() => reads.value || (query.data.value?.archived ?? false))
const plan = providePlan(source, fixed, {
  faultAt: draft.faultAt,
  faultBelow: draft.faultBelow,
  faultsBelow: (path) =>
    draft.faults.value
      .filter((fault) => fault.path.startsWith(path))
      .map((fault) => `${fault.path} ${fault.message}`)
      .join('\n'),
  commit: () => void commit(),
})
const asText = computed(() => route.query.as === 'text')
const view = (as: 'text' | undefined) => router.replace({ query: { ...route.query, as } })

const halt = useHalt()
const runs = useRuns(() => ({ experiment: props.id }))
const start = useStartRun()
const rehearsal = useRehearse(props.id)
const duplicate = useDuplicateExperiment(props.id)
const archive = useArchiveExperiment(props.id)
const readiness = useReadiness(() => props.id)
const systems = useSystems()
const outline = computed(() => query.data.value?.outline)
const data = computed(() => plan.data.value)
const archived = computed(() => query.data.value?.archived ?? false)
const busy = computed(() => runs.data.value?.runs.find((run) => !run.ended))
const mayStart = computed(
  () =>
    saving.value === 'saved' &&
    !busy.value &&
    !archived.value &&
    !halt.value?.halted &&
    readiness.data.value?.may_start !== false,
)
const peak = computed(() => {
  const { peak_users: most = 0, peak_rate: rate = 0 } = outline.value?.profile ?? {}
  const arriving = rate ? `${users(rate)} arrivals per second` : ''
  return [most || !rate ? `${users(most)} users` : '', arriving].filter(Boolean).join(' and ')
})
const now = ref(new Date())
useIntervalFn(() => (now.value = new Date()), 10_000)
const ends = computed(() => {
  const end = new Date(now.value.getTime() + (outline.value?.profile.duration_s ?? 0) * 1000)
  const today = end.toDateString() === now.value.toDateString()
  const time = end.toLocaleTimeString([], { hour: '2-digit', minute: '2-digit' })
  return today ? time : `${end.toLocaleDateString()}, ${time}`
})
function money(each: number) {
  const amount = each * Math.max(1, turns.value)
  return amount < 0.005 ? 'under 0.01' : `about ${amount.toFixed(2)}`
}
const systemChoices = computed(() => {
  const names = (systems.data.value ?? []).map((s) => s.name)
  const own = data.value?.system
  const missing = typeof own === 'string' && !names.includes(own) ? [own] : []
  return [...names, ...missing].map((name) => ({ value: name, text: name }))
})

function set(field: string, value: unknown) {
  plan.set([field], value === '' ? undefined : value)
  plan.commit()
}
const tagsOf = (text: string) => [
  ...new Set(
    text
      .split(',')
      .map((t) => t.trim())
      .filter(Boolean),
  ),
]
function setTags(text: string) {
  const tags = tagsOf(text)
  set('tags', tags.length ? tags : undefined)
}
const times = ref('1')
const TIMES = [
  { value: '1', text: 'once' },
  { value: '3', text: 'three times' },
  { value: '5', text: 'five times' },
  { value: '10', text: 'ten times' },
]
const take = useStartSeries()
const starting = computed(() => start.isPending.value || take.isPending.value)
const turns = computed(() => outline.value?.turns ?? 0)
async function run() {
  if (turns.value) {
    const begun = await take.mutateAsync(props.id).catch(() => undefined)
    if (begun) await router.push(`/series/${begun.id}`)
    return
  }
  const asked = { experiment: props.id, times: Number(times.value) }
  const started = await start.mutateAsync(asked).catch(() => undefined)
  if (started) await router.push(`/runs/${started.id}`)
}
async function rehearse() {
  const played = await rehearsal.mutateAsync(undefined).catch(() => undefined)
  if (played) await router.push(`/runs/${played.run}`)
}
async function copy() {
  const made = await duplicate.mutateAsync()
  await router.push(`/experiments/${made.id}`)
}
</script>

<template>
  <DraftFrame what="the experiment" :draft="draft">
    <template #head>
      <header class="flex flex-wrap items-baseline gap-x-4 gap-y-2">
        <h1 class="mr-auto min-w-0 break-words">
          {{ query.data.value?.name }} <span v-if="archived" class="label">archived</span>
        </h1>
        <div role="group" aria-label="How the experiment is shown" class="flex gap-3">
          <button
            v-for="way in [
              { as: undefined, text: 'In sentences' },
              { as: 'text' as const, text: 'As text' },
            ]"
            :key="way.text"
            type="button"
            class="border-b-2 px-1"
            :class="
              asText === (way.as === 'text') ? 'border-copper' : 'border-transparent text-ink-2'
            "
            :aria-pressed="asText === (way.as === 'text')"
            @click="view(way.as)"
          >
            {{ way.text }}
          </button>
        </div>
      </header>
    </template>
    <template v-if="outline && query.data.value" #margin>
      <section class="space-y-3 border-t border-rule pt-3" aria-label="Run it">
        <Action needs="planner" kind="primary" :busy="starting" :disabled="!mayStart" @click="run">
          {{ starting ? 'Starting …' : turns ? `Start ${turns} turns` : 'Start run' }}
        </Action>
        <Action
          class="ml-2"
          needs="planner"
          :busy="rehearsal.isPending.value"
          :disabled="saving !== 'saved' || archived"
          title="Plays it in virtual time against a twin of the system, in seconds: nothing is sent"
          @click="rehearse"
        >
          {{ rehearsal.isPending.value ? 'Rehearsing …' : 'Rehearse' }}
        </Action>
        <Choice
          v-if="!turns"
          v-model="times"
          label="How often"
          :options="TIMES"
          :disabled="!mayStart"
        />
        <JobProgress :progress="rehearsal.progress.value" @cancel="rehearsal.cancel()" />
        <Problem v-if="rehearsal.isError.value" :error="rehearsal.error.value" />
        <p v-if="saving !== 'saved'" class="label">
          What runs is what is saved; there are changes that are not.
        </p>
        <p v-if="archived" class="label">It is archived: bring it back to run it.</p>
        <p v-if="busy">
          <RouterLink :to="`/runs/${busy.id}`">Run {{ busy.id }}</RouterLink> is
          <RunState :state="busy.state" />.
        </p>
        <Problem v-if="start.isError.value" :error="start.error.value" />
        <Problem v-if="take.isError.value" :error="take.error.value" />
        <TargetNotice :id="id" :key="query.data.value.revision" kind="experiment" />
        <p class="text-ink-2">
          <template v-if="turns"
            >Each turn takes {{ given(outline.profile.duration_s) }} and reaches {{ peak
            }}<template v-if="outline.grows > 1"
              >, with the most of what is scaled {{ loadFigure(outline.grows) }} times
              that</template
            >; before it the system is changed for it. A rehearsal plays one turn of the system as
            it is.
          </template>
          <template v-else-if="outline.profile.at_most"
            >It takes at most {{ given(outline.profile.duration_s) }} and {{ peak }}. Started now,
            its load ends by {{ ends }}.
          </template>
          <template v-else
            >It takes {{ given(outline.profile.duration_s) }} and reaches {{ peak }}. Started now,
            its load ends soon after {{ ends }}.
          </template>
          <template v-if="times !== '1'"
            >The others follow one after the other, while they finish and nobody changes the
            experiment.
          </template>
          <template v-if="outline.cost !== null"
            >Its system costs {{ money(outline.cost) }} {{ outline.currency }} meanwhile<template
              v-if="outline.generators_cost !== null"
              >, its generators {{ money(outline.generators_cost) }}
              {{ outline.currency }}</template
            >.
          </template>
          Before load, every meter is read and every journey tried once.
        </p>
        <Schedules v-if="!turns" :id="id" :disabled="saving !== 'saved' || archived" />
      </section>
      <BeforeStart :id="id" :revision="query.data.value.revision" />
      <SeriesList :id="id" />
      <section>
        <h2 class="mb-1">Runs</h2>
        <OverTime v-if="runs.data.value?.runs.length" :id="id" class="mb-2" />
        <p v-if="!runs.data.value?.runs.length" class="text-ink-2">Not run yet.</p>
        <ul class="space-y-2">
          <li v-for="r in runs.data.value?.runs.slice(0, FEW_RUNS)" :key="r.id">
            <RouterLink :to="`/runs/${r.id}`">Run {{ r.id }}</RouterLink>
            <RunState class="ml-2" :state="r.state" :simulated="r.simulated" :seeded="r.seeded" />
            <span class="label ml-2"
              >{{ r.turn || `revision ${r.revision}` }}, {{ when(r.queued_at) }}</span
            >
            <p class="break-words"><Sentence :text="r.verdict || r.cause" /></p>
          </li>
        </ul>
        <p v-if="(runs.data.value?.runs.length ?? 0) > FEW_RUNS" class="label mt-1">
          The {{ FEW_RUNS }} newest; all stand under <RouterLink to="/runs">Runs</RouterLink>.
        </p>
      </section>
      <Revisions :experiment="query.data.value" :changeable="!archived" />
      <section class="space-y-2" aria-label="Use">
        <div class="flex flex-wrap gap-2">
          <CopyAndArchive
            :archived="archived"
            :copying="duplicate.isPending.value"
            :archiving="archive.isPending.value"
            @copy="copy"
            @archive="archive.mutate"
          />
        </div>
        <p><a :href="`/api/experiments/${id}/experiment.yaml`" download>experiment.yaml</a></p>
      </section>
      <WhoDidWhat :id="id" :key="query.data.value.revision" kind="experiment" />
    </template>
    <TextView v-if="asText" v-model="source" :fixed="fixed" @done="commit" />
    <div v-else-if="!data" class="max-w-prose space-y-2" role="alert">
      <p>
        <span class="text-brick">✕</span> The text cannot be read just now, so there are no
        sentences of it. What is wrong stands beside “Not saved yet”.
      </p>
      <Action @click="view('text')">See the text</Action>
    </div>
    <fieldset v-else-if="outline" :disabled="fixed" class="min-w-0 space-y-7">
      <section class="grid gap-3 sm:grid-cols-2" aria-label="What it asks">
        <Field
          label="Name"
          :fault="draft.faultAt('name')"
          :model-value="data.name"
          @update:model-value="set('name', $event)"
        />
        <Field
          label="Tags, with commas"
          :fault="draft.faultBelow('tags')"
          :model-value="(data.tags ?? []).join(', ')"
          @update:model-value="setTags(String($event ?? ''))"
        />
        <Field
          class="sm:col-span-2"
          label="Question"
          :model-value="data.question"
          @update:model-value="set('question', $event)"
        />
        <Field
          label="Hypothesis"
          :lines="2"
          placeholder="The ledger is full first, at about 100 users."
          :model-value="data.hypothesis"
          @update:model-value="set('hypothesis', $event)"
        />
        <Field
          label="Notes"
          :lines="2"
          :model-value="data.notes"
          @update:model-value="set('notes', $event)"
        />
      </section>
      <LoadEditor
        :id="id"
        v-model="source"
        :revision="query.data.value?.revision"
        :outline="outline"
      />
      <ForecastPlate :id="id" :revision="query.data.value?.revision" />
      <JourneysForm :outline="outline" />
      <ObjectivesForm :outline="outline" />
      <StopForm :outline="outline" />
      <TimelineForm v-if="!outline.turns" :outline="outline" />
      <WaitsForm />
      <CandidatesForm v-if="!data.scaling" :outline="outline" />
      <ScalingForm v-if="!data.candidates" :outline="outline" />
      <section aria-label="System">
        <h2 class="mb-1">System</h2>
        <Choice
          v-if="typeof data.system === 'string'"
          class="max-w-sm"
          label="It runs against"
          :options="systemChoices"
          :model-value="data.system"
          @update:model-value="set('system', $event)"
        />
        <p v-else>{{ outline.system.name }}, described in the text.</p>
        <p v-if="draft.faultBelow('system')" class="text-[13px] text-brick" role="alert">
          ✕ {{ draft.faultBelow('system')?.message }} {{ draft.faultBelow('system')?.mend }}
        </p>
        <p class="mt-1">
          <RouterLink
            v-if="query.data.value?.system_id"
            :to="`/systems/${query.data.value.system_id}`"
            >{{ outline.system.name }}</RouterLink
          >
          <span class="figures ml-2 break-all">{{ outline.system.base_url }}</span>
        </p>
        <ul class="mt-2 space-y-1">
          <li v-for="c in outline.system.components" :key="c.name" class="break-words">
            <code class="figures">{{ c.name }}</code> {{ c.role }}
            <span class="label">{{
              c.meters.length ? `metered at ${c.meters.join(', ')}` : 'no meter'
            }}</span>
          </li>
        </ul>
      </section>
    </fieldset>
  </DraftFrame>
</template>
