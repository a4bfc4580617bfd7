<script setup lang="ts">
import { watchDebounced, useEventListener } from '@vueuse/core'
import { computed, ref, watch } from 'vue'
import { onBeforeRouteLeave, useRouter } from 'vue-router'
import example from '../../../examples/quick.yaml?raw'
import { asProblem } from '@/api/problem'
import { useCheckPlan, useExperiment, useSavePlan } from '@/api/queries'
import ProfilePlate from '@/plates/ProfilePlate.vue'
import Action from '@/ui/Action.vue'
import Loading from '@/ui/Loading.vue'
import Problem from '@/ui/Problem.vue'
import WaitsForm from './experiment/WaitsForm.vue'

const props = defineProps<{ id?: number }>()
const router = useRouter()
const experiment = useExperiment(() => props.id)
const check = useCheckPlan()
const save = useSavePlan()
const source = ref<string | null>(props.id === undefined ? begin() : null)
const saved = ref<string | null>(null)
let base = 0
const dirty = computed(() => source.value !== null && source.value !== saved.value)
const fileInput = ref<HTMLInputElement | null>(null)

/** The example, on the system one comes from. */
function begin(): string {
  const system = router.currentRoute.value.query.system
  if (typeof system !== 'string') return example
  return example.replace(/^system:\n(?:[ \t]+.*\n|\n)+/m, `system: ${JSON.stringify(system)}\n\n`)
}
watch(
  () => experiment.data.value?.source,
  (text) => {
    if (text === undefined || source.value !== null) return
    source.value = saved.value = text
    base = experiment.data.value?.revision ?? 0
  },
  { immediate: true },
)
watchDebounced(source, (text) => text !== null && check.mutate(text), {
  debounce: 300,
  immediate: true,
})

async function keep() {
  if (source.value === null) return
  const text = source.value
  const id = await save.mutateAsync({ id: props.id, source: text, base }).catch(() => undefined)
  if (id === undefined) return
  saved.value = text
  await router.push(`/experiments/${id}`)
}
/** Somebody else saved meanwhile: their text, and its revision. */
const outdated = computed(() => {
  const problem = save.isError.value ? asProblem(save.error.value) : null
  return typeof problem?.theirs === 'string' ? problem : null
})
async function overrule() {
  base = outdated.value?.revision ?? base
  await keep()
}
function giveWay() {
  const problem = outdated.value
  if (typeof problem?.theirs !== 'string') return
  source.value = saved.value = problem.theirs
  base = problem.revision ?? base
  save.reset()
}
async function readFile() {
  const file = fileInput.value?.files?.[0]
  if (file) source.value = await file.text()
}
function download() {
  const link = document.createElement('a')
  link.href = URL.createObjectURL(new Blob([source.value ?? ''], { type: 'application/yaml' }))
  link.download = `${experiment.data.value?.name ?? 'experiment'}.yaml`
  link.click()
  URL.revokeObjectURL(link.href)
}
useEventListener(window, 'beforeunload', (event) => {
  if (dirty.value && props.id !== undefined) event.preventDefault()
})
onBeforeRouteLeave(() => {
  if (!dirty.value || props.id === undefined) return true
  return window.confirm('Leave without saving your changes to this experiment?')
})
</script>

<template>
  <div class="mb-3 flex flex-wrap items-center justify-between gap-3">
    <h1 class="break-words">
      {{
        id === undefined ? 'New experiment' : `Edit ${experiment.data.value?.name ?? 'experiment'}`
      }}
    </h1>
    <div class="flex flex-wrap gap-2">
      <input
        ref="fileInput"
        type="file"
        accept=".yaml,.yml,.json"
        class="sr-only"
        aria-label="Plan file"
        tabindex="-1"
        @change="readFile"
      />
      <Action @click="fileInput?.click()">Open a file …</Action>
      <Action @click="download">Save as file</Action>
      <Action @click="router.push(id === undefined ? '/experiments' : `/experiments/${id}`)"
        >Cancel</Action
      >
      <Action
        needs="planner"
        kind="primary"
        :busy="save.isPending.value"
        :disabled="id !== undefined && !dirty"
        @click="keep"
      >
        {{ id === undefined ? 'Create experiment' : 'Save as a new revision' }}
      </Action>
    </div>
  </div>
  <Loading v-if="source === null && experiment.isPending.value" what="the experiment" />
  <Problem v-else-if="experiment.isError.value" :error="experiment.error.value" />
  <div v-else class="grid gap-6 lg:grid-cols-[3fr_2fr]">
    <aside class="min-w-0 space-y-4 lg:order-2" aria-live="polite">
      <section v-if="outdated" class="space-y-2 border-l-2 border-ochre pl-3" role="alert">
        <p class="break-words">{{ outdated.detail }} Yours is not saved; both are here.</p>
        <details>
          <summary class="label cursor-pointer">Their text</summary>
          <pre class="answer max-h-80">{{ outdated.theirs }}</pre>
        </details>
        <div class="flex flex-wrap gap-2">
          <Action kind="primary" @click="overrule">Save yours over it</Action>
          <Action @click="giveWay">Go on with theirs</Action>
        </div>
      </section>
      <Problem v-else-if="save.isError.value" :error="save.error.value" />
      <template v-else-if="check.isError.value">
        <Problem :error="check.error.value" />
        <p class="label">Nothing is saved until the plan is sound; what you typed stays here.</p>
      </template>
      <template v-else-if="check.data.value">
        <p class="text-moss">○ This plan has no faults.</p>
        <p v-for="line in check.data.value.advice" :key="line" class="border-l-2 border-ochre pl-3">
          <span class="text-ochre">◐</span> {{ line }}
        </p>
        <section>
          <h2>{{ check.data.value.name }}</h2>
          <p>{{ check.data.value.question }}</p>
          <ProfilePlate class="mt-2" :profile="check.data.value.profile" />
        </section>
        <WaitsForm v-if="source !== null" v-model="source" />
        <section>
          <h2>Objectives</h2>
          <ul>
            <li v-for="goal in check.data.value.objectives" :key="goal">{{ goal }}</li>
          </ul>
        </section>
      </template>
      <Loading v-else what="the plan" />
    </aside>
    <label class="min-w-0">
      <span class="label">Plan in YAML or JSON</span>
      <textarea
        v-model="source"
        spellcheck="false"
        class="figures block h-[70vh] w-full resize-y rounded border border-rule bg-card p-3 text-[13.5px] leading-normal whitespace-pre"
        data-testid="source"
      />
    </label>
  </div>
</template>
