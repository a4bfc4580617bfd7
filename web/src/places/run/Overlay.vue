<script setup lang="ts">
import { computed, ref } from 'vue'
import { useRuns } from '@/api/queries'
import { useLaid } from '@/api/overlay'
import type { Schemas } from '@/api/client'
import OverlayPlate from '@/plates/OverlayPlate.vue'
import { anchorsOf, figureOf, rowsOf } from '@/plates/overlay'
import AxisSwitch from '@/plates/AxisSwitch.vue'
import type { Axis } from '@/plates/view'
import Action from '@/ui/Action.vue'
import Choice from '@/ui/Choice.vue'
import Loading from '@/ui/Loading.vue'
import Problem from '@/ui/Problem.vue'
import { when } from '@/ui/format'
import { useShortcuts } from '@/ui/shortcuts'

/** The two runs of a comparison in one picture, with up to two more behind them. */
const props = defineProps<{ found: Schemas['ComparisonAnswer'] }>()
const MOST = 4
const more = ref<number[]>([])
const ids = computed(() => [props.found.first.id, props.found.second.id, ...more.value])
const { laid, pending, error } = useLaid(ids)
const axis = ref<Axis>('load')
const anchor = ref('start')
const rows = computed(() => rowsOf(laid.value))
/** What changed most, as far as it is a row. */
const telling = computed(() =>
  rows.value.find((row) =>
    props.found.figures.some((one) => one.stands && figureOf(row.id, [one])),
  ),
)
const chosen = ref<[string, string]>(['', ''])
const upper = computed(
  () =>
    rows.value.find((row) => row.id === chosen.value[0]) ??
    telling.value ??
    rows.value[2] ??
    rows.value[0],
)
const lower = computed(
  () =>
    rows.value.find((row) => row.id === chosen.value[1]) ??
    rows.value.find((row) => row.id === 'throughput'),
)
const shown = computed(() => [upper.value, lower.value].flatMap((row) => (row ? [row] : [])))
const options = computed(() => rows.value.map((row) => ({ value: row.id, text: row.name })))
const anchors = computed(() => anchorsOf(laid.value))
const experiment = computed(() => props.found.second.experiment_id)
const others = useRuns(() => ({ experiment: experiment.value }))
const further = computed(() =>
  (others.data.value?.runs ?? [])
    .filter((run) => run.ended && run.verdict && !ids.value.includes(run.id))
    .map((run) => ({ value: String(run.id), text: `run ${run.id}, ${when(run.queued_at)}` })),
)
function add(run: string | undefined) {
  if (run) more.value = [...more.value, Number(run)]
}
useShortcuts([
  {
    keys: 'L',
    says: 'Load axis or clock axis',
    act: () => (axis.value = axis.value === 'clock' ? 'load' : 'clock'),
  },
])
</script>

<template>
  <section aria-label="The runs in one picture" class="mt-3">
    <div class="mb-2 flex flex-wrap items-end gap-3">
      <AxisSwitch v-model="axis" />
      <Choice
        label="Upper row"
        :options="options"
        :model-value="upper?.id ?? ''"
        @update:model-value="chosen = [String($event), chosen[1]]"
      />
      <Choice
        label="Lower row"
        :options="options"
        :model-value="lower?.id ?? ''"
        @update:model-value="chosen = [chosen[0], String($event)]"
      />
      <Choice
        v-if="axis === 'clock'"
        v-model="anchor"
        label="Laid on each other at"
        :options="anchors"
      />
      <Choice
        v-if="ids.length < MOST && further.length"
        label="Behind them"
        :options="[{ value: '', text: 'another run …' }, ...further]"
        model-value=""
        @update:model-value="add"
      />
      <Action v-if="more.length" @click="more = []">Only the two</Action>
    </div>
    <Problem v-if="error" :error="error" />
    <Loading v-else-if="pending" what="the runs" />
    <OverlayPlate
      v-else
      :runs="laid"
      :rows="shown"
      :axis="axis"
      :anchor="anchor"
      :unit="found.unit"
      :ratio="upper ? figureOf(upper.id, found.figures) : undefined"
    />
    <p v-if="axis === 'load' && upper && figureOf(upper.id, found.figures)" class="label mt-1">
      The ratio is of
      {{ upper.id.startsWith('busy ') ? 'what a step costs there' : upper.name }},
      {{
        found.others_first.length + found.others_second.length
          ? 'the one side over the other'
          : `run ${found.second.id} over run ${found.first.id}`
      }}, with 95 % intervals load by load; the strip is what all loads together could not have
      shown.
    </p>
  </section>
</template>
