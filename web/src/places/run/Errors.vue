<script setup lang="ts">
import { computed, ref } from 'vue'
import { useErrors, type ErrorKind } from '@/api/errors'
import { requestsOf } from '@/api/requests'
import type { Shown } from '@/api/livePlate'
import type { PlateInput } from '@/plates/view'
import Loading from '@/ui/Loading.vue'
import Problem from '@/ui/Problem.vue'
import Spark from '@/ui/Spark.vue'
import { clock, counted, percent, seconds, users } from '@/ui/format'

/** What failed in the stretch looked at: kind by kind, since when, at which steps, and some of it as it was. */
const props = defineProps<{
  id: number
  input: PlateInput
  shown: Shown
  live: boolean
  elapsed: number
}>()
defineEmits<{ look: [number]; isolate: [string] }>()
/** What a meter showed so near to the first error of a kind may have to do with it. */
const NEAR_S = 10
const open = ref(false)
const stretch = computed(() => {
  const { from_s, until_s, last_s } = props.shown
  return { from_s, until_s, last_s }
})
const found = useErrors(() => props.id, stretch, {
  live: () => props.live,
  when: open,
  seconds: () => props.elapsed,
})
const errors = computed(() => found.data.value)
function beside(kind: ErrorKind): string[] {
  const near = (t: number) => Math.abs(t - kind.first_s) <= NEAR_S
  const events = props.input.plate.events.filter((one) => near(one.t)).map((one) => one.text)
  const flags = props.input.flags.filter((one) => near(one.t)).map((one) => one.text)
  return [...new Set([...events, ...flags])]
}
</script>

<template>
  <details
    class="mt-2"
    data-testid="errors"
    @toggle="open = ($event.target as HTMLDetailsElement).open"
  >
    <summary class="label cursor-pointer">Errors by kind</summary>
    <template v-if="open">
      <Loading v-if="found.isPending.value" what="the errors" />
      <Problem v-else-if="found.isError.value" :error="found.error.value" />
      <template v-else-if="errors">
        <p class="mt-2" role="status">
          <template v-if="!errors.failed">
            None of {{ counted(errors.done, 'step') }} failed, {{ clock(errors.from_s) }} to
            {{ clock(errors.until_s) }}.
          </template>
          <template v-else>
            {{ users(errors.failed) }} of {{ counted(errors.done, 'step') }} failed ({{
              percent(errors.failed / errors.done)
            }}), {{ clock(errors.from_s) }} to {{ clock(errors.until_s) }}.
          </template>
          <span v-if="errors.failed && !errors.by_step" class="label">
            Single requests of this run are gone or were never there: which steps they were is not
            known any more.
          </span>
        </p>
        <article
          v-for="kind in errors.kinds"
          :key="kind.kind"
          class="mt-3 border-t border-rule pt-2"
          :data-kind="kind.kind"
        >
          <h3 class="flex flex-wrap items-baseline gap-x-3">
            <span class="text-brick">{{ kind.kind }}</span>
            <span class="figures">{{ users(kind.count) }}</span>
            <span class="label">{{ percent(kind.count / errors.done) }} of all steps</span>
            <Spark :values="kind.trend" :label="`${kind.kind} over the stretch`" />
          </h3>
          <p>
            First at
            <button
              type="button"
              class="figures text-copper hover:underline"
              @click="$emit('look', kind.first_s)"
            >
              {{ clock(kind.first_s) }}</button>, with
            {{ counted(Math.round(kind.first_users), 'user') }} there; last at
            {{ clock(kind.last_s) }}.
            <template v-if="beside(kind).length">
              Within {{ NEAR_S }} s of the first: {{ beside(kind).join('; ') }}.
            </template>
          </p>
          <p v-if="kind.steps.length">
            At
            <template v-for="(step, i) in kind.steps" :key="step.id"
              ><template v-if="i">, </template
              ><button
                type="button"
                class="text-copper hover:underline"
                @click="$emit('isolate', step.id)"
              >
                {{ step.name }}
              </button>
              <span class="figures ml-1">{{ users(step.count) }}</span></template
            >.
          </p>
          <p v-if="kind.levels.length" class="figures text-[13.5px]">
            <span v-for="(level, i) in kind.levels" :key="level.name"
              ><template v-if="i">; </template>{{ level.name }}: {{ users(level.count) }} of
              {{ users(level.done) }} ({{ percent(level.count / level.done) }})</span
            >.
          </p>
          <p v-if="kind.traced" class="text-[13.5px]" data-testid="failed-in">
            Of {{ users(kind.traced) }} that servers told of,
            <template v-if="kind.components.length">
              <span v-for="(one, i) in kind.components" :key="one.name"
                ><template v-if="i">, </template
                ><span class="figures">{{ users(one.count) }}</span> failed in {{ one.name }}</span
              >.
            </template>
            <template v-else>none says that it failed.</template>
          </p>
          <p v-if="errors.by_step">
            <RouterLink
              :to="
                requestsOf(id, {
                  answer: kind.kind,
                  from_s: errors.from_s,
                  until_s: errors.until_s,
                  order: 'first',
                })
              "
              >Each of them</RouterLink
            >
          </p>
          <details v-for="(one, i) in kind.examples" :key="i" class="text-[13.5px]">
            <summary class="cursor-pointer break-all">
              <span class="figures text-copper">{{ clock(one.at_s) }}</span> {{ one.request }},
              {{ one.status ? `status ${one.status}, ` : '' }}{{ seconds(one.took_s) }}, user
              {{ one.user }}
            </summary>
            <pre
              v-if="one.excerpt"
              class="mt-1 max-h-48 overflow-auto rounded border border-rule p-2 text-[12.5px] whitespace-pre-wrap"
              >{{ one.excerpt }}</pre>
            <p v-else class="label">Nothing was answered.</p>
          </details>
        </article>
      </template>
    </template>
  </details>
</template>
