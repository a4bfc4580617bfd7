<script setup lang="ts">
import { computed, ref, useId, watch } from 'vue'
import { useDistribution, type Asked } from '@/api/distribution'
import type { Shown } from '@/api/livePlate'
import { along, explained, largest, outline, rising, ticks, told } from '@/plates/shape'
import type { LevelPoint, PlateInput } from '@/plates/view'
import Choice from '@/ui/Choice.vue'
import Loading from '@/ui/Loading.vue'
import Problem from '@/ui/Problem.vue'
import { clock, given, load, seconds } from '@/ui/format'

/** How long requests of a step took: their distribution in the stretch looked at or at a level, beside that at another. */
const props = defineProps<{
  id: number
  input: PlateInput
  shown: Shown
  live: boolean
  elapsed: number
}>()
const WIDTH = 680
const BARS = { left: 36, right: 660, top: 62, bottom: 170 }
const RISE = { ...BARS, top: 186, bottom: 266 }
const LINE = 14
/** Beyond this a mark's words stand on its left. */
const ROOM = 590

const open = ref(false)
const of = ref('')
const here = ref('')
const beside = ref('')
const key = useId()
const levels = computed(() => props.input.levels)
const levelText = (one: LevelPoint) =>
  `Level ${one.number}, ${load(one.load.delivered, props.input.profile.axis)}`
const atLevels = computed(() =>
  levels.value.map((one) => ({ value: String(one.number), text: levelText(one) })),
)
const selections = computed(() =>
  props.input.plate.selections.map(({ id, name }) => ({ value: id, text: name })),
)
function stretchOf(number: string): { from_s: number; until_s: number } | null {
  const level = levels.value.find((one) => String(one.number) === number)
  return level ? { from_s: Math.ceil(level.start_s), until_s: Math.floor(level.end_s) } : null
}
const asked = computed<Asked>(() => {
  const other = stretchOf(beside.value)
  const { from_s, until_s, last_s } = props.shown
  return {
    of: of.value || props.input.plate.of,
    ...(stretchOf(here.value) ?? { from_s, until_s }),
    last_s: here.value ? 0 : last_s,
    beside_from_s: other?.from_s ?? 0,
    beside_until_s: other?.until_s ?? 0,
  }
})
const found = useDistribution(() => props.id, asked, {
  live: () => props.live && !here.value,
  when: open,
  seconds: () => props.elapsed,
})
watch(
  () => props.live,
  () => open.value && void found.refetch(),
)
const edges = computed(() => found.data.value?.edges_s ?? [])
const shapes = computed(() => found.data.value?.shapes ?? [])
const x = computed(() => along(edges.value, BARS))
const most = computed(() => largest(shapes.value.filter((shape) => shape.count)))
const marks = computed(() => {
  const first = shapes.value[0]
  const all = [
    { name: 'median', at: first?.p50_s },
    { name: 'mean', at: first?.mean_s },
    { name: '95 %', at: first?.p95_s },
    { name: '99 %', at: first?.p99_s },
  ]
  return all.flatMap(({ name, at }, k) =>
    at == null ? [] : [{ name, text: `${name} ${seconds(at)}`, x: x.value(at), y: 12 + k * LINE }],
  )
})
const words = computed(() => (shapes.value[0] ? explained(shapes.value[0]) : []))
const other = computed(() => shapes.value[1])

const bar = ref<number | null>(null)
watch(edges, (now) => {
  if (bar.value !== null && bar.value >= now.length - 1) bar.value = null
})
const holds = computed(() =>
  found.data.value && bar.value !== null ? told(found.data.value, bar.value) : null,
)
function point(event: PointerEvent) {
  const box = (event.currentTarget as SVGElement).getBoundingClientRect()
  const at = ((event.clientX - box.left) / Math.max(1, box.width)) * WIDTH
  const next = edges.value.findIndex((edge) => x.value(edge) > at)
  bar.value = next > 0 ? next - 1 : null
}
function move(event: KeyboardEvent) {
  const by = { ArrowLeft: -1, ArrowRight: 1 }[event.key]
  const last = edges.value.length - 2
  if (by === undefined || last < 0) return
  event.preventDefault()
  bar.value = Math.min(last, Math.max(0, (bar.value ?? (by > 0 ? -1 : last + 1)) + by))
}
</script>

<template>
  <details
    class="mt-2"
    data-testid="distribution"
    @toggle="open = ($event.target as HTMLDetailsElement).open"
  >
    <summary class="label cursor-pointer">How long requests took, as a distribution</summary>
    <template v-if="open">
      <div class="mt-2 flex flex-wrap items-end gap-3">
        <Choice
          :model-value="asked.of"
          class="w-52"
          label="Requests of"
          :options="selections"
          @update:model-value="of = $event ?? ''"
        />
        <Choice
          v-model="here"
          class="w-52"
          label="In"
          :options="[{ value: '', text: 'The stretch looked at' }, ...atLevels]"
        />
        <Choice
          v-if="atLevels.length"
          v-model="beside"
          class="w-52"
          label="Beside it, dashed"
          :options="[{ value: '', text: 'Nothing' }, ...atLevels]"
        />
      </div>
      <Loading v-if="found.isPending.value" what="the distribution" />
      <Problem v-else-if="found.isError.value" :error="found.error.value" />
      <p v-else-if="!edges.length" class="mt-2 text-ink-2" role="status">{{ words[0] }}</p>
      <template v-else>
        <p class="label figures mt-2">
          {{ found.data.value?.name }}, {{ clock(shapes[0]?.from_s ?? 0) }} to
          {{ clock(shapes[0]?.until_s ?? 0) }}
        </p>
        <svg
          :viewBox="`0 0 ${WIDTH} 292`"
          class="w-full max-w-3xl"
          tabindex="0"
          role="img"
          :aria-label="words.join(' ')"
          :aria-describedby="key"
          @pointermove="point"
          @pointerleave="bar = null"
          @keydown="move"
        >
          <g font-size="12" fill="var(--ink-2)">
            <template v-for="at in ticks(edges)" :key="at">
              <line
                :x1="x(at)"
                :x2="x(at)"
                :y1="BARS.top"
                :y2="RISE.bottom"
                stroke="var(--rule)"
                opacity="0.6"
              />
              <text :x="x(at)" :y="RISE.bottom + 16" text-anchor="middle">{{ given(at) }}</text>
            </template>
            <text :x="BARS.left - 4" :y="RISE.top + 4" text-anchor="end">all</text>
            <text :x="BARS.left - 4" :y="(RISE.top + RISE.bottom) / 2 + 4" text-anchor="end">
              half
            </text>
          </g>
          <path
            :d="outline(edges, shapes[0]!, most, BARS)"
            fill="var(--copper)"
            fill-opacity="0.3"
            stroke="var(--copper)"
          />
          <path
            v-if="other"
            :d="outline(edges, other, most, BARS)"
            fill="none"
            stroke="var(--plum)"
            stroke-dasharray="4 3"
          />
          <path
            :d="rising(edges, shapes[0]!, RISE)"
            fill="none"
            stroke="var(--copper)"
            stroke-width="1.6"
          />
          <path
            v-if="other"
            :d="rising(edges, other, RISE)"
            fill="none"
            stroke="var(--plum)"
            stroke-width="1.4"
            stroke-dasharray="4 3"
          />
          <g v-for="mark in marks" :key="mark.name" font-size="12" fill="var(--ink)">
            <line
              :x1="mark.x"
              :x2="mark.x"
              :y1="mark.y + 3"
              :y2="RISE.bottom"
              stroke="var(--ink-2)"
              stroke-dasharray="2 3"
            />
            <text
              :x="mark.x + (mark.x > ROOM ? -4 : 4)"
              :y="mark.y"
              :text-anchor="mark.x > ROOM ? 'end' : 'start'"
            >
              {{ mark.text }}
            </text>
          </g>
          <rect
            v-if="bar !== null"
            :x="x(edges[bar] ?? 0)"
            :width="Math.max(1, x(edges[bar + 1] ?? 0) - x(edges[bar] ?? 0))"
            :y="BARS.top"
            :height="RISE.bottom - BARS.top"
            fill="var(--ink)"
            opacity="0.12"
          />
        </svg>
        <p :id="key" class="figures min-h-5 text-[13px]" role="status">
          <template v-if="holds">
            {{ holds.between }}: {{ holds.each[0]
            }}<template v-if="holds.each[1]"> (dashed: {{ holds.each[1] }})</template>
          </template>
          <span v-else class="label"
            >Above, how many took so long, along a logarithmic scale; below, the share that took no
            longer. Point at it, or use ← and →.</span
          >
        </p>
        <ul class="mt-2 space-y-0.5 text-[13.5px]">
          <li v-for="line in words" :key="line">{{ line }}</li>
          <li v-if="other">
            Beside it, {{ clock(other.from_s) }} to {{ clock(other.until_s) }}: half within
            {{ seconds(other.p50_s) }}, 95 % within {{ seconds(other.p95_s) }}, mean
            {{ seconds(other.mean_s) }}.
          </li>
        </ul>
      </template>
    </template>
  </details>
</template>
