<script setup lang="ts">
import { computed, ref } from 'vue'
import { useRouter } from 'vue-router'
import { useRole } from '@/ui/role'
import { useArchiveJourney, useDuplicateJourney, useTrial } from '@/api/journeys'
import { useSystems } from '@/api/systems'
import Action from '@/ui/Action.vue'
import Choice from '@/ui/Choice.vue'
import CopyAndArchive from '@/ui/CopyAndArchive.vue'
import DraftFrame from '@/ui/DraftFrame.vue'
import Field from '@/ui/Field.vue'
import JobProgress from '@/ui/JobProgress.vue'
import Problem from '@/ui/Problem.vue'
import WhoDidWhat from '@/ui/WhoDidWhat.vue'
import { when } from '@/ui/format'
import { useShortcuts } from '@/ui/shortcuts'
import FeedsChoice from './journey/FeedsChoice.vue'
import ProofForm from './journey/ProofForm.vue'
import SessionForm from './journey/SessionForm.vue'
import StepForm from './journey/StepForm.vue'
import Trial from './journey/Trial.vue'
import { stepFrom } from './journey/commandLine'
import { useDocument, type StepDoc } from './journey/document'
import { pairsFrom, pairsText } from './journey/texts'

const props = defineProps<{ id: number }>()
const router = useRouter()
const draft = useDocument(props.id)
const { doc, journey, saving, faultAt, faultBelow, commit } = draft
const systems = useSystems()
const trial = useTrial(props.id)
const duplicate = useDuplicateJourney(props.id)
const archive = useArchiveJourney(props.id)
const open = ref<number | null>(null)
const pasted = ref('')
const pasteFault = ref('')

const steps = computed(() => doc.value?.steps ?? [])
const archived = computed(() => journey.data.value?.archived ?? false)
const { reads } = useRole()
const choices = computed(() => [
  { value: '', text: 'choose a system' },
  ...(systems.data.value ?? []).map((s) => ({ value: s.name, text: s.name })),
])
const hasThink = computed(() => steps.value.every((s) => s.enabled === false || s.think))

const cautious = computed(
  () =>
    (journey.data.value?.missing.length ?? 0) > 0 ||
    Object.keys(doc.value?.sample ?? {}).length > 0 ||
    (steps.value.length > 0 && !hasThink.value),
)

function freeName(wanted: string): string {
  const names = new Set(steps.value.map((s) => s.name))
  if (!names.has(wanted)) return wanted
  let number = 2
  while (names.has(`${wanted} ${number}`)) number += 1
  return `${wanted} ${number}`
}
function put(step: StepDoc, at = steps.value.length) {
  if (!doc.value) return
  const next = [...steps.value]
  next.splice(at, 0, step)
  doc.value.steps = next
  open.value = at
  void commit()
}
function add() {
  put({ name: freeName('Step'), request: 'GET /', think: 'exponential 4 s' })
}
function paste() {
  const found = stepFrom(pasted.value, freeName('Step'))
  if (typeof found === 'string') {
    pasteFault.value = found
    return
  }
  pasteFault.value = pasted.value = ''
  put({ ...found, name: freeName(found.request.replace(/\?.*/, '')), think: 'exponential 4 s' })
}
function copyStep(index: number) {
  const step = JSON.parse(JSON.stringify(steps.value[index])) as StepDoc
  put({ ...step, name: freeName(step.name) }, index + 1)
}
function move(index: number, by: number) {
  const [step] = doc.value?.steps?.splice(index, 1) ?? []
  if (step) doc.value?.steps?.splice(index + by, 0, step)
  open.value = index + by
  void commit()
}
function remove(index: number) {
  doc.value?.steps?.splice(index, 1)
  open.value = null
  void commit()
}
async function copy() {
  const made = await duplicate.mutateAsync()
  await router.push(`/journeys/${made.id}`)
}
useShortcuts([{ keys: 'T', says: 'Try the journey once', act: () => trial.mutate(1) }])
</script>

<template>
  <DraftFrame what="the journey" :draft="draft">
    <template v-if="doc && journey.data.value" #margin>
      <section class="space-y-2 border-t border-rule pt-3" aria-label="Try it">
        <h2>Trial</h2>
        <p data-testid="passing">
          <span v-if="journey.data.value.passed" class="text-moss">
            ○ Passed as it is now, {{ when(journey.data.value.tried_at ?? '') }}
          </span>
          <span v-else-if="!journey.data.value.tried_at">Not tried yet.</span>
          <span v-else-if="journey.data.value.trial_reason" class="break-words text-brick">
            ✕ {{ journey.data.value.trial_reason }}
          </span>
          <span v-else>Changed since it last passed.</span>
        </p>
        <Action
          needs="planner"
          kind="primary"
          :busy="trial.isPending.value"
          :disabled="saving !== 'saved'"
          @click="trial.mutate(1)"
        >
          {{ trial.isPending.value ? 'Trying …' : 'Try it once' }}
        </Action>
        <p class="label">One user walks the journey once, now. No load.</p>
        <JobProgress :progress="trial.progress.value" @cancel="trial.cancel()" />
        <Problem v-if="trial.isError.value" :error="trial.error.value" />
      </section>
      <section v-if="cautious" class="space-y-2 border-t border-rule pt-3" aria-label="Cautions">
        <p v-if="journey.data.value.missing.length" class="text-[13.5px] break-words">
          <code v-for="name in journey.data.value.missing" :key="name" class="figures mr-1">{{
            name
          }}</code>
          has no value yet: keep it from an earlier answer, choose a feed with such a column, or
          give a sample.
        </p>
        <p v-if="Object.keys(doc.sample ?? {}).length" class="text-[13.5px]">
          Sample values are the same for every user. In an experiment, a feed with such columns
          makes users differ; without one the server's caches would flatter the result.
        </p>
        <p v-if="steps.length && !hasThink" class="text-[13.5px]">
          ◐ Some steps have no think time: such users click without looking.
        </p>
      </section>
      <section class="space-y-2 border-t border-rule pt-3" aria-label="Use">
        <h2>Use</h2>
        <p v-if="journey.data.value.experiments.length" class="break-words">
          Part of
          <template v-for="(e, i) in journey.data.value.experiments" :key="e.id">
            <RouterLink :to="`/experiments/${e.id}`">{{ e.name }}</RouterLink>{{
              i < journey.data.value.experiments.length - 1 ? ', ' : '.'
            }}
          </template>
        </p>
        <p v-else class="text-[13.5px]">
          An experiment names it:
          <code class="figures break-all"
            >- {journey: {{ journey.data.value.name }}, weight: 1}</code
          >
        </p>
        <div class="flex flex-wrap gap-2">
          <CopyAndArchive
            :archived="archived"
            :copying="duplicate.isPending.value"
            :archiving="archive.isPending.value"
            @copy="copy"
            @archive="archive.mutate"
          />
        </div>
        <p><a :href="`/api/journeys/${id}/journey.yaml`" download>journey.yaml</a></p>
      </section>
      <WhoDidWhat :id="id" :key="journey.data.value.revision" kind="journey" />
    </template>
    <template v-if="doc && journey.data.value">
      <Trial
        v-if="trial.data.value"
        :trial="trial.data.value.trial"
        :user="trial.variables.value ?? 1"
        :recorded="steps.some((s) => s.recorded !== undefined)"
        :busy="trial.isPending.value"
        @again="trial.mutate"
        @close="trial.reset()"
      />
      <fieldset :disabled="archived || reads" class="min-w-0 space-y-5">
        <div class="grid gap-3 sm:grid-cols-2">
          <Field v-model="doc.name" label="Name" :fault="faultAt('name')" @done="commit" />
          <Choice v-model="doc.system" label="Tried against" :options="choices" @done="commit" />
          <Field
            label="Sample values, a line each: name=value"
            mono
            :lines="2"
            :model-value="pairsText(doc.sample, '=')"
            :fault="faultBelow('sample')"
            @update:model-value="doc!.sample = pairsFrom(String($event ?? ''), '=')"
            @done="commit"
          />
          <Field v-model="doc.notes" label="Notes" :lines="2" @done="commit" />
          <FeedsChoice v-model="doc.feeds" @done="commit" />
        </div>
        <SessionForm
          :model-value="doc.session ?? {}"
          @update:model-value="doc!.session = $event"
          @done="commit"
        />
        <ProofForm
          :model-value="doc.proof ?? {}"
          :fault="faultBelow('proof')"
          @update:model-value="doc!.proof = $event"
          @done="commit"
        />
        <section aria-label="Steps">
          <h2 class="mb-2">Steps</h2>
          <p v-if="!steps.length" class="mb-3 max-w-prose text-ink-2">
            A step is one thing a person does: opening a page, sending a form. Add the first, or
            paste a command line your browser copied.
          </p>
          <StepForm
            v-for="(step, i) in steps"
            :key="i"
            :model-value="step"
            :index="i"
            :count="steps.length"
            :open="open === i"
            @update:model-value="steps[i] = $event"
            @toggle="open = $event ? i : open === i ? null : open"
            @remove="remove(i)"
            @duplicate="copyStep(i)"
            @move="move(i, $event)"
          />
          <div class="mt-3 grid gap-3 sm:grid-cols-[auto_1fr_auto] sm:items-end">
            <Action @click="add">Add a step</Action>
            <div class="min-w-0">
              <label for="paste" class="label block">…or paste a curl command line</label>
              <input
                id="paste"
                v-model="pasted"
                class="field figures"
                placeholder="curl 'http://127.0.0.1:8000/tickets' -d 'zone=A'"
                @keydown.enter.prevent="paste"
              />
            </div>
            <Action :disabled="!pasted.trim()" @click="paste">Make a step</Action>
          </div>
          <p v-if="pasteFault" class="mt-1 text-[13px] text-brick" role="alert">
            ✕ {{ pasteFault }} Copy the request in your browser as a curl command.
          </p>
        </section>
      </fieldset>
    </template>
  </DraftFrame>
</template>
