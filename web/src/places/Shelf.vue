<script setup lang="ts">
import { computed, ref } from 'vue'
import { useSavePins, useShelf, useSystem, type Pin, type ShelfMetric } from '@/api/systems'
import Action from '@/ui/Action.vue'
import Choice from '@/ui/Choice.vue'
import Loading from '@/ui/Loading.vue'
import Problem from '@/ui/Problem.vue'
import ShelfRow from './system/ShelfRow.vue'
import SystemHeader from './system/SystemHeader.vue'
import { found as matches, pinText, samePin } from './system/figures'

const props = defineProps<{ id: number }>()
const PAGE = 60
const system = useSystem(() => props.id)
const shelf = useShelf(() => props.id)
const save = useSavePins(props.id)
const query = ref('')
const component = ref('')
const kind = ref('')
const all = ref(false)

const metrics = computed<ShelfMetric[]>(() => shelf.data.value?.metrics ?? [])
const chosen = computed(() =>
  metrics.value.filter(
    (m) =>
      (!component.value || m.component === component.value) &&
      (!kind.value || m.kind === kind.value) &&
      matches(m, query.value),
  ),
)
const shown = computed(() => (all.value ? chosen.value : chosen.value.slice(0, PAGE)))
const components = computed(() => [
  { value: '', text: 'all components' },
  ...[...new Set(metrics.value.map((m) => m.component))].map((c) => ({ value: c, text: c })),
])
const kinds = [
  { value: '', text: 'all kinds' },
  { value: 'counter', text: 'counters' },
  { value: 'gauge', text: 'gauges' },
  { value: 'histogram', text: 'histograms' },
]
const pins = computed<Pin[]>(() => system.data.value?.pins ?? [])

function toggle(pin: Pin) {
  const kept = pins.value.filter((p) => !samePin(p, pin))
  save.mutate(kept.length < pins.value.length ? kept : [...pins.value, pin])
}
function move(index: number, by: number) {
  const next = [...pins.value]
  const [pin] = next.splice(index, 1)
  if (pin) next.splice(index + by, 0, pin)
  save.mutate(next)
}
</script>

<template>
  <Loading v-if="system.isPending.value" what="the system" />
  <Problem v-else-if="system.isError.value" :error="system.error.value" />
  <div v-else-if="system.data.value" class="space-y-5">
    <SystemHeader :id="id" :name="system.data.value.name" :archived="system.data.value.archived" />
    <div class="grid gap-8 lg:grid-cols-[2fr_1fr]">
      <aside class="min-w-0 space-y-3 lg:order-2" aria-label="On the plate">
        <h2>On the plate</h2>
        <p v-if="!pins.length" class="max-w-prose">
          Nothing is pinned. Pinned figures stand below the resources on the plate of every run of
          this system.
        </p>
        <ol v-else class="space-y-2" data-testid="pins">
          <li v-for="(pin, i) in pins" :key="JSON.stringify(pin)" class="border-t border-rule pt-2">
            <p class="break-words">{{ pinText(pin, metrics) }}</p>
            <div class="flex gap-3">
              <button class="label hover:text-ink" :disabled="i === 0" @click="move(i, -1)">
                Up
              </button>
              <button
                class="label hover:text-ink"
                :disabled="i === pins.length - 1"
                @click="move(i, 1)"
              >
                Down
              </button>
              <button
                class="label hover:text-ink"
                :aria-label="`Take ${pinText(pin, metrics)} off the plate`"
                @click="toggle(pin)"
              >
                Take off
              </button>
            </div>
          </li>
        </ol>
        <Problem v-if="save.isError.value" :error="save.error.value" />
        <p v-if="shelf.data.value?.run_id">
          <RouterLink :to="`/runs/${shelf.data.value.run_id}`"
            >See the plate of run {{ shelf.data.value.run_id }}</RouterLink
          >
        </p>
      </aside>
      <div class="min-w-0 space-y-4">
        <Loading v-if="shelf.isPending.value" what="the metrics" />
        <Problem v-else-if="shelf.isError.value" :error="shelf.error.value" />
        <p v-else-if="!metrics.length" class="max-w-prose py-8">
          The shelf holds every metric the meters read in the last run, and there was none yet. Give
          the components meters, then run an experiment of this system.
        </p>
        <template v-else>
          <div class="grid gap-3 sm:grid-cols-[1fr_11rem_9rem]">
            <div>
              <label class="label block" for="shelf-search"
                >Search by component, name or meaning</label
              >
              <input
                id="shelf-search"
                v-model="query"
                type="search"
                class="field"
                placeholder="ledger queries"
              />
            </div>
            <Choice v-model="component" label="Component" :options="components" />
            <Choice v-model="kind" label="Kind" :options="kinds" />
          </div>
          <p class="label" role="status">
            {{ chosen.length }} of {{ metrics.length }} metrics of run
            {{ shelf.data.value?.run_id }}, means under load
          </p>
          <p v-if="!chosen.length" class="py-6">No metric has these words. Try fewer.</p>
          <ul class="divide-y divide-rule border-y border-rule" data-testid="shelf">
            <ShelfRow
              v-for="m in shown"
              :key="`${m.component} ${m.metric}`"
              :metric="m"
              :others="metrics"
              :pins="pins"
              @toggle="toggle"
            />
          </ul>
          <Action v-if="chosen.length > shown.length" @click="all = true">
            Show all {{ chosen.length }}
          </Action>
        </template>
      </div>
    </div>
  </div>
</template>
