<script setup lang="ts">
import { computed, ref } from 'vue'
import { useRouter } from 'vue-router'
import { useHistory } from '@/api/history'
import HistoryPlate from '@/plates/HistoryPlate.vue'
import { told } from '@/plates/history'
import Choice from '@/ui/Choice.vue'
import Loading from '@/ui/Loading.vue'
import Problem from '@/ui/Problem.vue'
import RunState from '@/ui/RunState.vue'
import Sentence from '@/ui/Sentence.vue'
import { day, loadFigure } from '@/ui/format'

/** An experiment's runs over time: since when what is different, and what was changed there. */
const props = defineProps<{ id: number }>()
const router = useRouter()
const load = ref<number | null>(null)
const answer = useHistory(() => props.id, load)
const history = computed(() => answer.data.value)
const chosen = ref('')
const key = (one: { subject: string; figure: string }) => `${one.figure} ${one.subject}`
const shown = computed(
  () =>
    history.value?.figures.find((one) => key(one) === chosen.value) ?? history.value?.figures[0],
)
const figures = computed(() =>
  (history.value?.figures ?? []).map((one) => ({
    value: key(one),
    text: `${one.name.replaceAll('`', '')}${one.shifted.length ? ' ✕ shifted' : ''}`,
  })),
)
const loads = computed(() =>
  (history.value?.loads ?? []).map((one) => ({
    value: String(one),
    text: `${loadFigure(one)} ${history.value?.unit}`,
  })),
)
const pointed = ref<number | null>(null)
const runs = computed(() => [...(history.value?.runs ?? [])].reverse())
const values = computed(
  () => new Map(shown.value?.runs.map((run, i) => [run, shown.value?.value[i]]) ?? []),
)
/** The run before one, of its kind and not left out: what it is compared with. */
function before(run: number): number | undefined {
  const own = history.value?.runs.find((one) => one.id === run)
  const same =
    history.value?.runs.filter((one) => one.seeded === own?.seeded && !one.left_out) ?? []
  return same[same.findIndex((one) => one.id === run) - 1]?.id
}
</script>

<template>
  <h1 class="mb-1 break-words">
    <RouterLink :to="`/experiments/${id}`">{{ history?.experiment ?? 'Experiment' }}</RouterLink>
    over time
  </h1>
  <Loading v-if="answer.isPending.value" what="the history" />
  <Problem v-else-if="answer.isError.value" :error="answer.error.value" />
  <template v-else-if="history">
    <p class="max-w-prose text-[18px]" data-testid="sentence">
      <Sentence :text="history.sentence" />
    </p>
    <p v-if="history.earlier" class="label">
      Of its newest {{ history.runs.length }} runs; {{ history.earlier }} earlier ones are not
      looked at.
    </p>
    <p v-if="!history.runs.length" class="mt-4">
      Its runs will stand here side by side.
      <RouterLink :to="`/experiments/${id}`">Open the experiment</RouterLink> and start one.
    </p>
    <div v-else class="mt-4 grid gap-6 lg:grid-cols-[2fr_1fr]">
      <div class="min-w-0">
        <div class="mb-2 flex flex-wrap items-end gap-4">
          <Choice
            label="Figure"
            :options="figures"
            :model-value="shown ? key(shown) : ''"
            @update:model-value="chosen = String($event)"
          />
          <Choice
            v-if="history.load !== null"
            label="At a load of"
            :options="loads"
            :model-value="String(history.load)"
            @update:model-value="load = Number($event)"
          />
        </div>
        <HistoryPlate
          v-if="shown"
          :history="history"
          :shown="shown"
          :pointed="pointed"
          @point="pointed = $event"
          @open="router.push(`/runs/${$event}`)"
        />
        <p class="label mt-1">
          Each mark is a run with its 95 % interval, hollow where the practice twin made it; the
          strip is where single runs scatter.
          <template v-if="history.load !== null"
            >Response times, errors and cost are at {{ loadFigure(history.load) }}
            {{ history.unit }}.</template
          >
        </p>
      </div>
      <aside class="min-w-0 space-y-4">
        <section aria-label="What shifted">
          <h2 class="mb-1">What shifted, and when</h2>
          <p v-if="!history.events.length">Nothing so far.</p>
          <ol class="space-y-3">
            <li
              v-for="event in [...history.events].reverse()"
              :key="event.run"
              class="border-l-2 border-copper pl-3"
              data-testid="event"
              @mouseenter="pointed = event.run"
              @mouseleave="pointed = null"
            >
              <p>
                <strong>{{ day(event.at) }}</strong>,
                <RouterLink :to="`/runs/${event.run}`">run {{ event.run }}</RouterLink>
              </p>
              <p v-for="line in event.different" :key="line" class="break-words">
                Changed: <Sentence :text="line" />
              </p>
              <p v-for="line in event.changes.slice(0, 4)" :key="line" class="break-words">
                <Sentence :text="line" />
              </p>
              <details v-if="event.changes.length > 4">
                <summary class="label cursor-pointer">{{ event.changes.length - 4 }} more</summary>
                <p v-for="line in event.changes.slice(4)" :key="line" class="break-words">
                  <Sentence :text="line" />
                </p>
              </details>
              <RouterLink
                v-if="before(event.run)"
                :to="`/runs/${event.run}/against/${before(event.run)}`"
                >Compare it with run {{ before(event.run) }}</RouterLink
              >
            </li>
          </ol>
        </section>
      </aside>
    </div>
    <div v-if="history.runs.length" class="mt-6 overflow-x-auto">
      <table class="w-full">
        <thead>
          <tr>
            <th>Run</th>
            <th>When</th>
            <th>State</th>
            <th><Sentence :text="shown?.name ?? ''" /></th>
            <th class="w-1/2">Noted</th>
          </tr>
        </thead>
        <tbody>
          <tr
            v-for="run in runs"
            :key="run.id"
            :class="{ 'bg-card': pointed === run.id }"
            @mouseenter="pointed = run.id"
            @mouseleave="pointed = null"
          >
            <td class="whitespace-nowrap">
              <RouterLink :to="`/runs/${run.id}`">Run {{ run.id }}</RouterLink>
            </td>
            <td class="whitespace-nowrap">{{ day(run.at) }}</td>
            <td><RunState :state="run.state" :seeded="run.seeded" /></td>
            <td class="figures whitespace-nowrap">
              <template v-if="shown && values.get(run.id) !== undefined">
                {{ told(values.get(run.id)!, shown, history) }}
              </template>
              <template v-else>–</template>
            </td>
            <td class="break-words">
              <strong v-if="run.baseline">Baseline. </strong>{{ run.remark }}
              <span v-if="run.left_out" class="block text-ink-2">Left out: {{ run.left_out }}</span>
            </td>
          </tr>
        </tbody>
      </table>
    </div>
  </template>
</template>
