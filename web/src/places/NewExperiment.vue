<script setup lang="ts">
import { watchDebounced } from '@vueuse/core'
import { computed, ref, watch } from 'vue'
import { useRouter } from 'vue-router'
import example from '../../../examples/quick.yaml?raw'
import { useCheckPlan, useCreateExperiment } from '@/api/experiments'
import { useJourneys } from '@/api/journeys'
import { useSystems } from '@/api/systems'
import Action from '@/ui/Action.vue'
import Choice from '@/ui/Choice.vue'
import Field from '@/ui/Field.vue'
import LoadSketch from '@/ui/LoadSketch.vue'
import Problem from '@/ui/Problem.vue'
import { put } from '@/ui/yamlText'
import { drawn, pointsOf } from './experiment/load'
import { ORDER } from './experiment/plan'
import { SHAPES } from './experiment/shapes'

/** An experiment to begin with: from what is described already, or from a text. */
const router = useRouter()
const create = useCreateExperiment()
const check = useCheckPlan()
const systems = useSystems()
const journeys = useJourneys()
const query = router.currentRoute.value.query
const asText = ref(query.as === 'text')
const name = ref('')
const question = ref('')
const system = ref(typeof query.system === 'string' ? query.system : '')
const chosen = ref<string[]>([])
const shape = ref(0)
const source = ref(begin())
const file = ref<HTMLInputElement | null>(null)

/** The example, on the system one comes from. */
function begin(): string {
  if (typeof query.system !== 'string') return example
  return example.replace(
    /^system:\n(?:[ \t]+.*\n|\n)+/m,
    `system: ${JSON.stringify(query.system)}\n\n`,
  )
}
watch(
  () => systems.data.value,
  (found) => (system.value ||= found?.[0]?.name ?? ''),
  { immediate: true },
)
const usable = computed(() => (journeys.data.value ?? []).filter((j) => j.steps.length))
/** The first journey of the chosen system, until somebody chooses. */
const touched = ref(false)
watch(
  [usable, system],
  ([found, on]) => {
    const own = found.filter((j) => j.system === on || !j.system).slice(0, 1)
    if (!touched.value) chosen.value = own.map((j) => j.name)
  },
  { immediate: true },
)
watchDebounced([source, asText], () => asText.value && check.mutate(source.value), {
  debounce: 300,
  immediate: true,
})
const sketches = SHAPES.map((s) => {
  const load = s.course?.map((users) => ({ hold: { users, for: '1 min' } })) ?? s.load
  return pointsOf(drawn(load, 'users')).map(([t, n]) => ({ t, users: n }))
})
const lacks = computed(() => {
  if (!name.value.trim()) return 'It needs a name.'
  if (!system.value) return 'Choose a system; describe one under Systems first.'
  return chosen.value.length
    ? ''
    : 'Choose at least one journey; describe one under Journeys first.'
})

function told(): string {
  if (asText.value) return source.value
  const parts = {
    question: question.value.trim() || undefined,
    system: system.value,
    journeys: chosen.value.map((journey) => ({ journey, weight: 1 })),
    ...SHAPES[shape.value]?.more,
    load: SHAPES[shape.value]?.load,
  }
  return Object.entries(parts).reduce(
    (text, [field, value]) => put(text, [field], value, ORDER),
    put('name: ""\n', ['name'], name.value.trim()),
  )
}
async function make() {
  const made = await create.mutateAsync(told()).catch(() => undefined)
  if (made) await router.push(`/experiments/${made.id}`)
}
async function readFile() {
  const found = file.value?.files?.[0]
  if (!found) return
  source.value = await found.text()
  asText.value = true
}
function toggle(journey: string) {
  touched.value = true
  chosen.value = chosen.value.includes(journey)
    ? chosen.value.filter((j) => j !== journey)
    : [...chosen.value, journey]
}
</script>

<template>
  <div class="mb-3 flex flex-wrap items-baseline gap-x-3 gap-y-2">
    <h1 class="mr-auto">New experiment</h1>
    <input
      ref="file"
      type="file"
      accept=".yaml,.yml,.json"
      class="sr-only"
      aria-label="Plan file"
      tabindex="-1"
      @change="readFile"
    />
    <Action @click="file?.click()">From a file</Action>
    <Action @click="asText = !asText">{{ asText ? 'In sentences' : 'As text' }}</Action>
    <Action
      needs="planner"
      kind="primary"
      :busy="create.isPending.value"
      :disabled="asText ? !source.trim() : Boolean(lacks)"
      @click="make"
      >Create experiment</Action
    >
  </div>
  <div class="grid gap-6 lg:grid-cols-[3fr_2fr]">
    <aside class="min-w-0 space-y-3 lg:order-2" aria-live="polite">
      <Problem v-if="create.isError.value" :error="create.error.value" />
      <template v-if="asText">
        <template v-if="check.isError.value">
          <Problem v-if="!create.isError.value" :error="check.error.value" />
          <p class="label">
            Nothing is created until the plan is sound; what you typed stays here.
          </p>
        </template>
        <template v-else-if="check.data.value">
          <p class="text-moss">○ This plan has no faults.</p>
          <p
            v-for="line in check.data.value.advice"
            :key="line"
            class="border-l-2 border-ochre pl-3"
          >
            <span class="text-ochre">◐</span> {{ line }}
          </p>
        </template>
      </template>
      <template v-else>
        <p v-if="lacks" class="text-ink-2">{{ lacks }}</p>
        <p class="text-ink-2">
          Everything can be changed on its page: the load sentence by sentence, who comes, what
          shall hold. Objectives are added there, too.
        </p>
      </template>
    </aside>
    <label v-if="asText" class="min-w-0">
      <span class="label">Plan in YAML or JSON</span>
      <textarea
        v-model="source"
        spellcheck="false"
        class="figures block h-[70vh] w-full resize-y rounded border border-rule bg-card p-3 text-[13.5px] leading-normal whitespace-pre"
        data-testid="source"
      />
    </label>
    <div v-else class="min-w-0 space-y-5">
      <div class="grid gap-3 sm:grid-cols-2">
        <Field v-model="name" label="Name" />
        <Choice
          v-model="system"
          label="It runs against"
          :options="(systems.data.value ?? []).map((s) => ({ value: s.name, text: s.name }))"
        />
        <Field
          v-model="question"
          class="sm:col-span-2"
          label="Question"
          placeholder="How many users does it hold?"
        />
      </div>
      <fieldset class="min-w-0">
        <legend class="mb-1 text-[17px] font-semibold">What users do</legend>
        <p v-if="!usable.length" class="text-ink-2">
          No journey has steps yet. <RouterLink to="/journeys">Describe one</RouterLink>, or begin
          as text with the example.
        </p>
        <label v-for="j in usable" :key="j.name" class="flex items-baseline gap-2 py-0.5">
          <input type="checkbox" :checked="chosen.includes(j.name)" @change="toggle(j.name)" />
          <span class="min-w-0 break-words">
            {{ j.name }} <span class="label">{{ j.steps.join(', ') }}</span>
          </span>
        </label>
      </fieldset>
      <fieldset class="min-w-0">
        <legend class="mb-1 text-[17px] font-semibold">Load to begin with</legend>
        <label
          v-for="(s, i) in SHAPES"
          :key="s.name"
          class="flex items-center gap-3 border-b border-rule py-2"
        >
          <input v-model="shape" type="radio" name="shape" :value="i" />
          <LoadSketch :load="sketches[i]!" />
          <span class="min-w-0"
            ><span class="font-semibold">{{ s.name }}</span>
            <span class="text-ink-2">: {{ s.says }}</span></span
          >
        </label>
      </fieldset>
    </div>
  </div>
</template>
