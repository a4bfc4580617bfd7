<script setup lang="ts">
import { computed } from 'vue'
import type { JourneyTrial } from '@/api/journeys'
import Action from '@/ui/Action.vue'
import { seconds } from '@/ui/format'
import Comparison from './Comparison.vue'
import { barOf, type Piece } from './waterfall'

/** A trial, request by request: when, how long, what was sent and received, what was kept. */
const props = defineProps<{
  trial: JourneyTrial
  user: number
  recorded: boolean
  busy: boolean
}>()
defineEmits<{ close: []; again: [user: number] }>()
const looks: Record<Piece['phase'], string> = {
  'name lookup': 'bg-plum',
  connect: 'bg-ochre',
  TLS: 'bg-moss',
  waiting: 'bg-silt',
  receiving: 'bg-lake',
}
const phases = computed(() => {
  const seen = props.trial.steps.flatMap((s) =>
    s.exchanges.flatMap((e) => barOf(e, props.trial.took_s).map((piece) => piece.phase)),
  )
  return Object.keys(looks).filter((phase) => seen.includes(phase as Piece['phase']))
})

const origin = computed(() => {
  const first = props.trial.steps.flatMap((s) => s.exchanges)[0]
  return first ? new URL(first.url).origin : ''
})
/** The path; of another host than the first request's the whole address. */
function short(url: string): string {
  return url.startsWith(`${origin.value}/`) ? url.slice(origin.value.length) : url
}

function formatted(text: string): string {
  try {
    return JSON.stringify(JSON.parse(text), null, 2)
  } catch {
    return text
  }
}
</script>

<template>
  <section class="space-y-3" aria-label="Trial" data-testid="trial">
    <h2>
      <span v-if="trial.passed" class="text-moss">○ The trial passed</span>
      <span v-else class="text-brick">✕ The trial failed</span>
      <span class="label font-normal">
        in {{ seconds(trial.took_s) }}{{ user > 1 ? `, as user ${user}` : '' }}
      </span>
    </h2>
    <button type="button" class="label hover:text-ink" @click="$emit('close')">Close</button>
    <p v-if="!trial.passed" class="border-l-2 border-brick pl-3 break-words" role="alert">
      {{ trial.reason }}
    </p>
    <div v-if="trial.passed && recorded" class="space-y-2 border-l-2 border-silt pl-3">
      <p class="max-w-prose text-[13.5px]">
        That no session of your recording carries it shows when it passes as somebody else too, and
        again later, once what was recorded has run out.
      </p>
      <div class="flex flex-wrap gap-2">
        <Action :busy="busy" @click="$emit('again', user + 1)">Try as user {{ user + 1 }}</Action>
        <Action :busy="busy" @click="$emit('again', user)">Try once more</Action>
      </div>
    </div>
    <p class="label flex flex-wrap gap-x-3">
      <span v-for="phase in phases" :key="phase" class="flex items-center gap-1">
        <span
          class="inline-block h-2.5 w-4"
          :class="looks[phase as Piece['phase']]"
          aria-hidden="true"
        />
        {{ phase }}
      </span>
    </p>
    <ol class="space-y-3">
      <li
        v-for="step in trial.steps"
        :key="step.name"
        class="border-t border-rule pt-2"
        :data-step="step.name"
      >
        <p>
          <span :class="step.passed ? 'text-moss' : 'text-brick'">{{
            step.passed ? '○' : '✕'
          }}</span>
          <strong class="ml-1 break-words">{{ step.name }}</strong>
        </p>
        <details v-for="(exchange, k) in step.exchanges" :key="k" class="mt-1">
          <summary class="cursor-pointer list-none [&::-webkit-details-marker]:hidden">
            <span class="grid items-center gap-x-3 gap-y-0.5 sm:grid-cols-[1fr_45%_4.5rem]">
              <span class="min-w-0 break-all" :class="{ 'pl-4': exchange.accompanying }">
                <span class="label" aria-hidden="true">▸ </span>
                <code class="figures text-[12.5px]"
                  >{{ exchange.method }} {{ exchange.status || '–' }}
                  {{ short(exchange.url) }}</code
                >
              </span>
              <span class="relative h-3.5 border-b border-rule" aria-hidden="true">
                <span
                  v-for="piece in barOf(exchange, trial.took_s)"
                  :key="piece.phase"
                  class="absolute top-0.5 h-2.5"
                  :class="looks[piece.phase]"
                  :style="{ left: `${piece.left}%`, width: `max(2px, ${piece.width}%)` }"
                />
              </span>
              <span class="figures text-right text-[12.5px]">{{
                seconds(exchange.phases.total)
              }}</span>
            </span>
          </summary>
          <div class="mt-1 space-y-2 border-l border-rule pl-3 text-[13px]">
            <p v-if="exchange.fault" class="text-brick">{{ exchange.fault }}</p>
            <p v-for="hop in exchange.hops" :key="hop.location" class="break-all">
              Redirected with {{ hop.status }} to <code class="figures">{{ hop.location }}</code>
            </p>
            <p v-if="exchange.timing.length">
              Server-Timing:
              {{ exchange.timing.map((t) => `${t.component} ${seconds(t.seconds)}`).join(', ') }}
            </p>
            <div class="grid gap-3 lg:grid-cols-2">
              <div class="min-w-0">
                <p class="label">Sent</p>
                <pre class="answer">{{ exchange.sent_headers }}</pre>
                <pre v-if="exchange.sent_body" class="answer">{{
                  formatted(exchange.sent_body)
                }}</pre>
              </div>
              <div class="min-w-0">
                <p class="label">Received, {{ exchange.size }} bytes</p>
                <pre class="answer">{{ exchange.received_headers }}</pre>
                <pre v-if="exchange.received_body" class="answer">{{
                  formatted(exchange.received_body)
                }}</pre>
              </div>
            </div>
          </div>
        </details>
        <ul class="mt-1 space-y-0.5 text-[13px]">
          <li v-for="check in step.checks" :key="check.text" class="break-words">
            <span :class="check.passed ? 'text-moss' : 'text-brick'">{{
              check.passed ? '○' : '✕'
            }}</span>
            {{ check.text }}<template v-if="!check.passed">: {{ check.found }}</template>
          </li>
          <li v-for="kept in step.kept" :key="kept.name" class="break-all">
            Kept <code class="figures">{{ kept.name }}</code> {{ kept.place }}:
            <code v-if="kept.value !== null" class="figures">{{ kept.value }}</code>
            <span v-else class="text-brick">not found</span>
          </li>
        </ul>
        <details v-if="step.comparison" class="mt-1" :open="!step.passed">
          <summary class="label cursor-pointer">Beside what was recorded</summary>
          <Comparison class="mt-1" :comparison="step.comparison" />
        </details>
      </li>
    </ol>
  </section>
</template>
