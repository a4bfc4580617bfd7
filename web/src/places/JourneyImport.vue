<script setup lang="ts">
import { computed, ref, watch } from 'vue'
import { useRouter } from 'vue-router'
import { useImportJourneyFile, useLookAtJourneyFile } from '@/api/journeys'
import { useSystems } from '@/api/systems'
import Action from '@/ui/Action.vue'
import Choice from '@/ui/Choice.vue'
import Field from '@/ui/Field.vue'
import JobProgress from '@/ui/JobProgress.vue'
import Problem from '@/ui/Problem.vue'
import { counted } from '@/ui/format'

/** A journey from a browser's recording, an API's description or a list of addresses. */
const router = useRouter()
const look = useLookAtJourneyFile()
const create = useImportJourneyFile()
const systems = useSystems()
const input = ref<HTMLInputElement | null>(null)
const file = ref<File | null>(null)
const name = ref('')
const system = ref('')
const accepted = ref(new Set<string>())

const found = computed(() => look.data.value?.found)
const choices = computed(() => [
  { value: '', text: 'choose a system' },
  ...(systems.data.value ?? []).map((s) => ({ value: s.name, text: s.name })),
])
const wanted = ref(new Set<string>())
const others = computed(() => found.value?.hosts.filter((h) => h.name !== found.value?.host) ?? [])

watch(
  () => systems.data.value,
  (all) => {
    if (!system.value && all?.length === 1) system.value = all[0]?.name ?? ''
  },
  { immediate: true },
)
watch(found, (now) => acceptAll(now?.proposals.filter((p) => p.sure).map((p) => p.name) ?? []))

function acceptAll(names: string[]) {
  accepted.value = new Set(names)
}
function toggle(one: string) {
  const next = new Set(accepted.value)
  if (!next.delete(one)) next.add(one)
  accepted.value = next
}
async function take(host: string) {
  const next = new Set(wanted.value)
  if (!next.delete(host)) next.add(host)
  wanted.value = next
  await read()
}
async function read() {
  if (!file.value) return
  const given = { file: file.value, hosts: [...wanted.value] }
  await look.mutateAsync(given).catch(() => null)
}
async function choose() {
  file.value = input.value?.files?.[0] ?? null
  create.reset()
  if (!file.value) return
  name.value = file.value.name.replace(/\.[^.]*$/, '').slice(0, 80)
  wanted.value = new Set()
  await read()
}
async function make() {
  if (!file.value) return
  const use = {
    name: name.value,
    system: system.value,
    accept: [...accepted.value],
    hosts: [...wanted.value],
  }
  const made = await create.mutateAsync({ file: file.value, use }).catch(() => null)
  if (made) await router.push(`/journeys/${made.id}`)
}
</script>

<template>
  <div class="max-w-4xl space-y-5">
    <h1>A journey from a file</h1>
    <ul class="max-w-prose list-inside list-disc space-y-1">
      <li>
        A browser's recording (HAR): open the developer tools on the network view, do once what
        users do, and save everything. Pages, forms and calls become steps, files accompany them,
        pauses become think times.
      </li>
      <li>An API's description (OpenAPI 3, JSON or YAML): a step for each operation.</li>
      <li>A list of addresses (CSV): a step for each.</li>
      <li>A journey's own document (YAML), as it is downloaded here.</li>
    </ul>
    <input
      ref="input"
      type="file"
      accept=".har,.json,.yaml,.yml,.csv,.txt"
      class="sr-only"
      tabindex="-1"
      aria-label="File to make a journey from"
      @change="choose"
    />
    <p class="flex flex-wrap items-center gap-3">
      <Action :kind="found ? 'plain' : 'primary'" @click="input?.click()">Choose a file</Action>
      <span v-if="file" class="break-all">{{ file.name }}</span>
    </p>
    <JobProgress :progress="look.progress.value" @cancel="look.cancel()" />
    <Problem v-if="look.isError.value" :error="look.error.value" />
    <template v-else-if="found">
      <section class="space-y-1" aria-label="Steps">
        <h2>{{ found.steps.length }} steps{{ found.host && ` on ${found.host}` }}</h2>
        <fieldset v-if="others.length" class="space-y-1 py-1" data-testid="hosts">
          <legend class="text-[13.5px]">
            Other hosts it went to. Left out unless you take them: load belongs on your own systems.
          </legend>
          <label
            v-for="host in others"
            :key="host.name"
            class="flex items-baseline gap-2 text-[13.5px]"
          >
            <input
              type="checkbox"
              class="accent-copper"
              :checked="wanted.has(host.name)"
              :disabled="look.isPending.value"
              @change="take(host.name)"
            />
            <span class="min-w-0 break-all"
              >{{ host.name }}
              <span class="label">{{ counted(host.requests, 'request') }}</span></span
            >
          </label>
        </fieldset>
        <p
          v-for="note in found.notes.filter((n) => !n.startsWith('Requests to other'))"
          :key="note"
          class="text-[13.5px] break-words"
        >
          {{ note }}
        </p>
        <ol class="divide-y divide-rule border-y border-rule">
          <li v-for="step in found.steps" :key="step.name" class="flex flex-wrap gap-x-4 py-1.5">
            <span class="min-w-0 flex-1">
              <strong
                v-if="step.name !== step.request.replace(/\?.*/, '')"
                class="mr-2 font-semibold break-words"
                >{{ step.name }}</strong
              >
              <code class="figures text-[13px] break-all">{{ step.request }}</code>
            </span>
            <span class="label">
              {{ step.files ? counted(step.files, 'file') : ''
              }}{{ step.files && step.think ? ', ' : '' }}{{ step.think && `then ${step.think}` }}
            </span>
          </li>
        </ol>
      </section>
      <section v-if="found.kind === 'recording'" class="space-y-2" aria-label="Values to keep">
        <h2>Values of this one visit</h2>
        <p v-if="!found.proposals.length" class="max-w-prose">
          No answer delivered a value that a later request sent back.
        </p>
        <template v-else>
          <p class="max-w-prose">
            These came from an answer and were sent back later. Kept anew, every user gets their
            own; left as recorded, they would be those of your recording.
          </p>
          <div class="flex gap-2">
            <Action @click="acceptAll(found.proposals.map((p) => p.name))">Accept all</Action>
            <Action @click="acceptAll([])">Accept none</Action>
          </div>
          <ul class="divide-y divide-rule border-y border-rule" data-testid="proposals">
            <li v-for="proposal in found.proposals" :key="proposal.name" class="py-2">
              <label class="flex items-baseline gap-2">
                <input
                  type="checkbox"
                  class="accent-copper"
                  :checked="accepted.has(proposal.name)"
                  @change="toggle(proposal.name)"
                />
                <span class="min-w-0">
                  <code class="figures">{{ `\{\{${proposal.name}\}\}` }}</code>
                  <span class="label ml-2 break-all">recorded as {{ proposal.value }}</span>
                  <span class="block text-[13.5px] break-words">
                    From “{{ proposal.step }}”, {{ proposal.place }}
                  </span>
                  <span v-if="!proposal.sure" class="block text-[13.5px]">
                    <span class="text-ochre">◐</span> It may be a mere word of the page: take it
                    only if each visit has its own.
                  </span>
                  <span class="block text-[13.5px] break-words">
                    Used in {{ proposal.used.join('; ') }}
                  </span>
                </span>
              </label>
            </li>
          </ul>
        </template>
      </section>
      <section class="grid gap-3 sm:grid-cols-[1fr_1fr_auto] sm:items-end" aria-label="Journey">
        <Field v-model="name" label="Name of the journey" />
        <Choice v-model="system" label="Tried against" :options="choices" />
        <Action
          needs="planner"
          kind="primary"
          :busy="create.isPending.value"
          :disabled="!name"
          @click="make"
        >
          Create the journey
        </Action>
      </section>
      <JobProgress :progress="create.progress.value" @cancel="create.cancel()" />
      <Problem v-if="create.isError.value" :error="create.error.value" />
    </template>
  </div>
</template>
