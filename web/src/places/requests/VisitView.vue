<script setup lang="ts">
import { computed } from 'vue'
import { phasesOf, serverTimes, useVisit, type Line } from '@/api/requests'
import Loading from '@/ui/Loading.vue'
import Problem from '@/ui/Problem.vue'
import { amount, counted, moment, seconds, shareOf } from '@/ui/format'
import PathView from './PathView.vue'
import Phases from './Phases.vue'

/** One visit of one user as a strip of its steps, and under it one request: its phases, and what was said. */
const props = defineProps<{ id: number; line: Line }>()
const emit = defineEmits<{ choose: [Line]; close: [] }>()
const found = useVisit(
  () => props.id,
  () => ({ user: props.line.user, visit: props.line.visit }),
)
const visit = computed(() => found.data.value)
const lines = computed(() => visit.value?.lines ?? [])
/** The request looked at: where a step with several was chosen, its main one. */
const one = computed(
  () =>
    lines.value.find(
      (own) => own.start_us === props.line.start_us && own.part === props.line.part,
    ) ?? props.line,
)
const begun = computed(() => lines.value[0]?.start_s ?? props.line.start_s)
/** A step of the visit: its requests, when it began after the visit did, and how long it took. */
const steps = computed(() => {
  const groups: { key: string; name: string; lines: Line[] }[] = []
  for (const own of lines.value) {
    const last = groups.at(-1)
    const goesOn = last && own.part > 0 && last.lines[0]?.step === own.step
    if (goesOn) last.lines.push(own)
    else groups.push({ key: `${own.start_us} ${own.step}`, name: own.name, lines: [own] })
  }
  return groups.map((group) => {
    const start = group.lines[0]?.start_s ?? 0
    const end = Math.max(...group.lines.map((own) => own.start_s + own.total_s))
    return { ...group, start, took: end - start, failed: group.lines.some((own) => own.error) }
  })
})
const most = computed(() => Math.max(...steps.value.map((step) => step.took), 0))
const chosenStep = computed(() => steps.value.find((step) => step.lines.includes(one.value)))
/** How long nothing was asked before a step. */
const pauses = computed(() =>
  steps.value.map((step, i) => {
    const before = steps.value[i - 1]
    return before ? step.start - before.start - before.took : 0
  }),
)
const phases = computed(() => phasesOf(one.value))
const share = (part: number) => shareOf(part / Math.max(1e-9, one.value.total_s))
/** A request kept whole began within so much of its record. */
const NEAR_US = 1_000
const said = computed(() =>
  one.value.part
    ? undefined
    : visit.value?.texts.find((text) => Math.abs(text.start_us - one.value.start_us) <= NEAR_US),
)
const servers = computed(() => serverTimes(said.value?.headers ?? ''))
const way = computed(() =>
  (visit.value?.paths[one.value.trace] ?? []).filter((stay) => stay.part === one.value.part),
)
const WHY: Record<string, string> = {
  failed: 'kept since it failed',
  slow: 'kept as one of the slowest',
  sample: 'kept by chance',
}
</script>

<template>
  <section aria-label="The visit" data-testid="visit" class="space-y-4">
    <header>
      <p class="flex flex-wrap items-baseline gap-x-3">
        <strong>Visit {{ line.visit }} of user {{ line.user }}</strong>
        <span class="label">{{ line.group }}</span>
        <button type="button" class="label ml-auto hover:text-ink" @click="emit('close')">
          Close
        </button>
      </p>
      <p class="label break-words">{{ line.journey }}, begun at {{ moment(begun) }}</p>
    </header>
    <Loading v-if="found.isPending.value" what="the visit" />
    <Problem v-else-if="found.isError.value" :error="found.error.value" />
    <ol v-else class="text-[13.5px]" aria-label="Its steps">
      <li v-for="(step, i) in steps" :key="step.key">
        <p v-if="(pauses[i] ?? 0) >= 0.05" class="label figures pl-2">
          {{ seconds(pauses[i]) }} of thinking
        </p>
        <button
          type="button"
          class="grid w-full grid-cols-[minmax(0,1fr)_7rem_4.5rem] items-center gap-2 rounded-sm border-l-2 py-0.5 pl-2 text-left hover:bg-card"
          :class="step === chosenStep ? 'border-copper bg-card' : 'border-transparent'"
          :aria-current="step === chosenStep"
          @click="step.lines[0] && emit('choose', step.lines[0])"
        >
          <span class="truncate" :title="step.name"
            ><span v-if="step.failed" class="text-brick" aria-label="failed">✕ </span
            >{{ step.name }}</span
          >
          <span class="block h-2.5 rounded-[1px] bg-rule/40">
            <span
              class="block h-full min-w-[2px] rounded-[1px]"
              :class="step.failed ? 'bg-brick' : 'bg-copper'"
              :style="{ width: `${(100 * step.took) / Math.max(1e-9, most)}%` }"
            />
          </span>
          <span class="figures text-right">{{ seconds(step.took) }}</span>
        </button>
      </li>
    </ol>

    <div v-if="chosenStep && chosenStep.lines.length > 1" data-testid="parts">
      <h2 class="text-[15px]">{{ counted(chosenStep.lines.length, 'request') }} of this step</h2>
      <ol class="mt-1 text-[13px]">
        <li v-for="own in chosenStep.lines" :key="own.part">
          <button
            type="button"
            class="grid w-full grid-cols-[6.5rem_minmax(0,1fr)_4.5rem] items-center gap-2 rounded-sm py-0.5 text-left hover:bg-card"
            :class="own === one ? 'bg-card font-semibold' : ''"
            :aria-current="own === one"
            @click="emit('choose', own)"
          >
            <span class="figures truncate"
              >{{ own.part || 'main' }}
              <span :class="own.error ? 'text-brick' : 'text-ink-2'">{{
                own.error || own.status
              }}</span></span
            >
            <Phases :line="own" :most="chosenStep.took" :after="own.start_s - chosenStep.start" />
            <span class="figures text-right">{{ seconds(own.total_s) }}</span>
          </button>
        </li>
      </ol>
    </div>

    <div data-testid="anatomy">
      <h2 class="text-[15px] break-words">
        {{ one.name }}{{ one.part ? `, part ${one.part}` : '' }}:
        <span :class="one.error ? 'text-brick' : ''">{{
          one.error || `status ${one.status}`
        }}</span>
        in <span class="figures">{{ seconds(one.total_s) }}</span>
      </h2>
      <Phases class="my-2 !h-4" :line="one" :most="one.total_s" />
      <table>
        <caption class="sr-only">
          What it spent its time with
        </caption>
        <tbody class="figures">
          <tr v-for="phase in phases" :key="phase.name">
            <th scope="row" class="font-sans !text-[13.5px] !text-ink">
              <span
                class="mr-2 inline-block h-3 w-4 border border-current align-[-1px] text-copper"
                :class="`hatch-${phase.hatch}`"
              />{{ phase.name }}
            </th>
            <td class="text-right">{{ seconds(phase.seconds) }}</td>
            <td class="text-right">{{ share(phase.seconds) }}</td>
          </tr>
          <tr v-for="server in servers" :key="server.name">
            <th scope="row" class="pl-6 font-sans !text-[13.5px]">
              of that, {{ server.name }} says
            </th>
            <td class="text-right">{{ seconds(server.seconds) }}</td>
            <td class="text-right">{{ share(server.seconds) }}</td>
          </tr>
        </tbody>
      </table>
      <p class="label mt-1">
        At {{ moment(one.start_s) }}, {{ seconds(one.late_s) }} after it was due;
        {{ one.fresh ? 'on a new connection' : 'on a connection that was open' }};
        {{ amount(one.sent, 'B') }} sent, {{ amount(one.received, 'B') }} received.
        <template v-if="one.blind_s >= 0.001">
          The generator may have seen the answer up to {{ seconds(one.blind_s) }} late.
        </template>
        <template v-if="one.led_on"> It was redirected; the next part followed. </template>
        Trace <code class="break-all">{{ one.trace }}</code>
      </p>
    </div>

    <PathView v-if="way.length" :line="one" :stays="way" />

    <div v-if="said" class="space-y-2 text-[13.5px]" data-testid="said">
      <p class="break-all">
        {{ said.method }} {{ said.url }} <span class="label">{{ WHY[said.why] ?? said.why }}</span>
      </p>
      <details>
        <summary class="label cursor-pointer">What was sent</summary>
        <pre class="answer"
          >{{ said.sent_headers }}{{ said.sent_body ? `\n\n${said.sent_body}` : '' }}</pre>
      </details>
      <details open>
        <summary class="label cursor-pointer">
          What was answered ({{ amount(said.size, 'B') }}; the beginning is kept)
        </summary>
        <pre class="answer"
          >{{ said.headers || 'Nothing.' }}{{ said.body ? `\n\n${said.body}` : '' }}</pre>
      </details>
    </div>
    <p v-else-if="visit" class="label" data-testid="not-said">
      Its headers and body were not kept. Kept are failures, the slowest of each level and some by
      chance, main requests only; of more than a hundred answers in a second not all are looked at.
    </p>
  </section>
</template>
