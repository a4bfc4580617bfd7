<script setup lang="ts">
import { computed, ref } from 'vue'
import type { Pin, ShelfMetric } from '@/api/systems'
import Action from '@/ui/Action.vue'
import Choice from '@/ui/Choice.vue'
import Spark from '@/ui/Spark.vue'
import { amount } from '@/ui/format'
import { figureText, samePin } from './figures'

/** One metric of the shelf: its line over the last run, and the figures it can be pinned as. */
const props = defineProps<{ metric: ShelfMetric; others: ShelfMetric[]; pins: Pin[] }>()
const emit = defineEmits<{ toggle: [pin: Pin] }>()
const figure = ref<Pin['figure']>(props.metric.figures[0] ?? 'value')
const other = ref('')

const figures = computed(() =>
  props.metric.figures.map((f) => ({ value: f, text: figureText(f, props.metric) })),
)
const divisors = computed(() =>
  props.others
    .filter((m) => m.kind !== 'histogram' && m !== props.metric)
    .map((m) => ({
      value: `${m.component} ${m.metric}`,
      text: `${m.component} ${m.name}`,
    })),
)
const pin = computed<Pin>(() => {
  const [component = '', metric = ''] = figure.value === 'ratio' ? other.value.split(' ') : []
  return {
    component: props.metric.component,
    metric: props.metric.metric,
    figure: figure.value,
    other_component: component,
    other_metric: metric,
  }
})
const pinned = computed(() => props.pins.some((p) => samePin(p, pin.value)))
const name = computed(() => `${props.metric.component} ${props.metric.name}`)
const firstFigure = computed(() => props.metric.figures[0] ?? 'value')
const drawn = computed(() =>
  firstFigure.value === 'by label' ? 'as it is' : figureText(firstFigure.value, props.metric),
)
</script>

<template>
  <li
    class="grid items-center gap-x-4 gap-y-2 py-2 sm:grid-cols-[1fr_132px_7.5rem_13.5rem]"
    :data-metric="`${metric.component} ${metric.metric}`"
  >
    <div class="min-w-0">
      <p class="break-words">
        <strong>{{ metric.component }}</strong> {{ metric.name }}
      </p>
      <p class="label break-all">
        {{ metric.help ? `${metric.help} · ` : '' }}<code class="figures">{{ metric.metric }}</code>
        <template v-if="metric.instances > 1"> · {{ metric.instances }} instances</template>
      </p>
    </div>
    <Spark :values="metric.spark" :label="`${name} over the last run`" />
    <p class="text-[13.5px]">
      <span class="figures">{{ amount(metric.mean, metric.spark_unit) }}</span>
      <span v-if="!metric.spark_unit.endsWith('per step')" class="label block">{{
        metric.kind === 'histogram' ? 'median bucket' : drawn
      }}</span>
    </p>
    <div class="flex min-w-0 flex-wrap gap-2">
      <Choice
        v-model="figure as string"
        class="min-w-0 flex-1"
        :label="`Figure of ${name}`"
        label-hidden
        :options="figures"
      />
      <Action
        needs="planner"
        :kind="pinned ? 'primary' : 'plain'"
        :disabled="figure === 'ratio' && !other"
        :aria-pressed="pinned"
        :aria-label="`${pinned ? 'Take off the plate' : 'Pin to the plate'}: ${name}`"
        @click="emit('toggle', pin)"
      >
        {{ pinned ? 'Pinned' : 'Pin' }}
      </Action>
      <Choice
        v-if="figure === 'ratio'"
        v-model="other"
        class="w-full"
        label="Over"
        :options="[{ value: '', text: 'choose a metric' }, ...divisors]"
      />
    </div>
  </li>
</template>
