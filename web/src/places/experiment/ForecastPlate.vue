<script setup lang="ts">
import { useElementSize } from '@vueuse/core'
import { computed, ref } from 'vue'
import { useForecast } from '@/api/experiments'
import { loadTicks } from '@/plates/terrain'
import Problem from '@/ui/Problem.vue'
import { figure, loadFigure, percent, users } from '@/ui/format'

/** What the load would see, by what is known of the system: a forecast, never a finding. */
const props = defineProps<{ id: number; revision: number | undefined }>()
const answer = useForecast(props.id, () => props.revision)
const found = computed(() => answer.data.value?.forecast ?? null)
const seen = computed(() => answer.data.value?.seen ?? [])
const box = ref<HTMLElement | null>(null)
const { width: measured } = useElementSize(box)
const HEIGHT = 150
const [TOP, BOTTOM, LEFT, RIGHT] = [20, 30, 46, 12]
const width = computed(() => Math.max(260, measured.value))
const most = computed(() => found.value?.load.at(-1) ?? 1)
const counts = computed(() => found.value?.kind !== 'arrivals')
/** A load on its axis: whole users, arrivals to three figures. */
const told = (load: number) => (counts.value ? users(load) : loadFigure(load))
const unit = computed(() => found.value?.unit ?? 'users')
const x = (n: number) =>
  LEFT + (Math.min(n, most.value) / most.value) * (width.value - LEFT - RIGHT)
const px = (value: number) => value.toFixed(1)

interface Row {
  name: string
  ticks: number[]
  y: (value: number) => number
  line: string
  band: string
  points: { x: number; y: number; text: string }[]
}
const rows = computed<Row[]>(() => {
  const f = found.value
  if (!f) return []
  return [
    { name: 'mean response, s', curve: f.response_s, of: 'response_s' as const },
    { name: 'steps per s', curve: f.throughput, of: 'throughput' as const },
  ].map(({ name, curve, of }) => {
    const known = curve.high.filter((v): v is number => v !== null)
    const ticks = loadTicks(Math.max(...known, ...seen.value.map((s) => s[of])), 4)
    const top = ticks.at(-1) || 1
    const y = (value: number) =>
      HEIGHT - BOTTOM - (Math.min(value, top) / top) * (HEIGHT - TOP - BOTTOM)
    const at = (values: (number | null)[]) =>
      values.flatMap((v, i) => (v === null ? [] : [`${px(x(f.load[i] ?? 0))},${px(y(v))}`]))
    return {
      name,
      ticks,
      y,
      line: at(curve.value).join(' '),
      band: [...at(curve.high), ...at(curve.low).reverse()].join(' '),
      points: seen.value
        .filter((s) => s.load <= most.value)
        .map((s) => ({
          x: x(s.load),
          y: y(s[of]),
          text: `${told(s.load)} ${unit.value}: ${figure(s[of])}`,
        })),
    }
  })
})
const xTicks = computed(() =>
  loadTicks(most.value, Math.max(3, Math.floor(width.value / 110))).filter((n) => n <= most.value),
)
const beyond = computed(() => {
  const to = found.value?.measured_to
  return to != null && to < most.value ? x(to) : null
})
const sentence = computed(() => {
  const f = found.value
  if (!f) return ''
  const [low, high] = [told(f.saturation_low), told(f.saturation_high)]
  const range = low === high ? '' : ` (${low}–${high})`
  const limit = f.limiting.replace('.', ' ').replace(/cpu$/, 'CPU')
  return f.saturation <= most.value
    ? `Throughput would stop growing at about ${told(f.saturation)} ${unit.value}${range}, limited by ${limit}.` +
        (counts.value ? '' : ' From there on answers take longer the longer the load lasts.')
    : `This load would stay below saturation, which would come at about ${told(f.saturation)} ${unit.value}${range}, by ${limit}.`
})
const busiest = computed(() =>
  Object.entries(found.value?.utilisation ?? {})
    .map(([key, values]) => ({ key, use: values.at(-1) ?? 0 }))
    .sort((a, b) => b.use - a.use)
    .slice(0, 4),
)
</script>

<template>
  <section aria-label="Forecast" data-testid="forecast">
    <h2 class="mb-1">Forecast</h2>
    <p v-if="answer.isPending.value" class="text-ink-2">Working it out …</p>
    <Problem v-else-if="answer.isError.value" :error="answer.error.value" />
    <p v-else-if="!found" class="text-ink-2">{{ answer.data.value?.why_not }}</p>
    <template v-else>
      <p>{{ sentence }}</p>
      <p class="label">
        A forecast by {{ found.words
        }}<template v-if="found.measured_to !== null"
          >, measured up to {{ told(found.measured_to) }} {{ unit }}; beyond, hatched, it is
          extrapolated</template
        >. Limits that no meter sees are not in it.
        <template v-if="answer.data.value?.seen_run"
          >Dots are what
          <RouterLink :to="`/runs/${answer.data.value.seen_run}`"
            >run {{ answer.data.value.seen_run }}</RouterLink
          >
          saw.</template
        >
      </p>
      <div ref="box" class="mt-1 min-w-0">
        <svg
          v-for="row in rows"
          :key="row.name"
          :width="width"
          :height="HEIGHT"
          role="img"
          :aria-label="`Forecast of ${row.name} against ${unit}`"
          class="block"
        >
          <defs>
            <pattern
              id="beyond"
              width="6"
              height="6"
              patternUnits="userSpaceOnUse"
              patternTransform="rotate(45)"
            >
              <line x1="0" y1="0" x2="0" y2="6" stroke="var(--rule)" stroke-width="2" />
            </pattern>
          </defs>
          <rect
            v-if="beyond !== null"
            :x="beyond"
            :y="TOP"
            :width="width - RIGHT - beyond"
            :height="HEIGHT - TOP - BOTTOM"
            fill="url(#beyond)"
            opacity="0.6"
          />
          <g class="figures" font-size="11" fill="var(--ink-2)">
            <text :x="LEFT" :y="11">{{ row.name }}</text>
            <g v-for="n in row.ticks" :key="n">
              <line
                :x1="LEFT"
                :x2="width - RIGHT"
                :y1="row.y(n)"
                :y2="row.y(n)"
                stroke="var(--rule)"
                :opacity="n ? 0.6 : 1"
              />
              <text :x="LEFT - 8" :y="row.y(n) + 4" text-anchor="end">{{ n }}</text>
            </g>
            <text
              v-for="n in xTicks"
              :key="`x${n}`"
              :x="x(n)"
              :y="HEIGHT - BOTTOM + 14"
              text-anchor="middle"
            >
              {{ told(n) }}
            </text>
            <text :x="(LEFT + width - RIGHT) / 2" :y="HEIGHT - 4" text-anchor="middle">
              {{ unit }}
            </text>
          </g>
          <polygon :points="row.band" fill="var(--lake)" opacity="0.18" />
          <polyline
            :points="row.line"
            fill="none"
            stroke="var(--lake)"
            stroke-width="1.4"
            stroke-dasharray="6 4"
          />
          <line
            v-if="found.saturation <= most"
            :x1="x(found.saturation)"
            :x2="x(found.saturation)"
            :y1="TOP"
            :y2="HEIGHT - BOTTOM"
            stroke="var(--copper)"
            stroke-dasharray="2 3"
          />
          <circle
            v-for="point in row.points"
            :key="point.text"
            :cx="point.x"
            :cy="point.y"
            r="3"
            fill="var(--ink)"
          >
            <title>{{ point.text }}</title>
          </circle>
        </svg>
      </div>
      <p class="label">
        At the end of it:
        <template v-for="(one, i) in busiest" :key="one.key"
          >{{ i ? ', ' : '' }}{{ one.key.replace('.', ' ') }} {{ percent(one.use) }} busy</template
        >.
      </p>
    </template>
  </section>
</template>
