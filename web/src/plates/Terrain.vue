<script setup lang="ts">
import { useElementSize } from '@vueuse/core'
import { computed, ref } from 'vue'
import { pointsOf, secondsIn, type Drawn, type Unit } from '@/places/experiment/load'
import { clock, loadFigure, users } from '@/ui/format'
import { clockTicks, loadTicks, stacked } from './terrain'

/** The planned load, drawn from its sentences; the corners of one group are handles. */
interface Group {
  name: string
  unit: Unit
  lines: Drawn[]
}
const props = defineProps<{
  groups: Group[]
  active: number
  chosen: number | null
  pointed: number | null
  fixed: boolean
}>()
const emit = defineEmits<{
  choose: [index: number]
  point: [index: number | null]
  drag: [index: number, to: { load?: number; seconds?: number }]
  dropped: []
}>()
const HEIGHT = 230
const [TOP, BOTTOM, LEFT] = [24, 34, 46]
const GRIP_PX = 4
const MOST_HANDLES = 60
const FILLS = ['var(--silt)', 'var(--lake)', 'var(--plum)', 'var(--ochre)', 'var(--moss)']

const box = ref<HTMLElement | null>(null)
const { width: measured } = useElementSize(box)
const width = computed(() => Math.max(280, measured.value))
const active = computed(() => props.groups[props.active])
const byUsers = computed(() => {
  const own = props.groups.filter((g) => g.unit === 'users')
  const first = active.value?.unit === 'users' ? active.value : undefined
  // The group whose corners are handles lies lowest: its height is what the axis says.
  return first ? [first, ...own.filter((g) => g !== first)] : own
})
const byRate = computed(() => props.groups.filter((g) => g.unit === 'rate'))
const layers = computed(() =>
  stacked(byUsers.value.map((g) => ({ name: g.name, points: pointsOf(g.lines) }))),
)
const seconds = computed(() => Math.max(1, ...props.groups.map((g) => secondsIn(g.lines))))
const mostUsers = computed(() =>
  Math.max(1, ...layers.value.flatMap((l) => l.edges.map((e) => e.high))),
)
const mostRate = computed(() =>
  Math.max(1e-9, ...byRate.value.flatMap((g) => pointsOf(g.lines).map(([, n]) => n))),
)
const right = computed(() => (byRate.value.length ? 46 : 22))
/** While a corner is dragged the scales stand still. */
const held = ref<{ seconds: number; users: number; rate: number } | null>(null)
const scale = computed(
  () => held.value ?? { seconds: seconds.value, users: mostUsers.value, rate: mostRate.value },
)
const userTicks = computed(() => loadTicks(scale.value.users, 5))
const rateTicks = computed(() => loadTicks(scale.value.rate, 5))
const ticks = computed(() =>
  clockTicks(scale.value.seconds, Math.max(2, Math.floor(width.value / 90))),
)
const x = (t: number) => LEFT + (t / scale.value.seconds) * (width.value - LEFT - right.value)
const span = HEIGHT - TOP - BOTTOM
const top = (unit: Unit) => (unit === 'users' ? userTicks.value : rateTicks.value).at(-1) || 1
const y = (load: number, unit: Unit) => HEIGHT - BOTTOM - (load / top(unit)) * span
const px = (value: number) => value.toFixed(1)

const areas = computed(() =>
  layers.value.map((layer, i) => {
    const upper = layer.edges.map((e) => `${px(x(e.t))},${px(y(e.high, 'users'))}`)
    const lower = [...layer.edges].reverse().map((e) => `${px(x(e.t))},${px(y(e.low, 'users'))}`)
    return {
      name: layer.name,
      line: upper.join(' '),
      area: [...upper, ...lower].join(' '),
      fill: FILLS[i % FILLS.length],
    }
  }),
)
/** Where a search leads the load, the most it may come to. */
const searched = computed(() => props.groups.flatMap((g) => g.lines).find((line) => line.open))
const rates = computed(() =>
  byRate.value.map((g) =>
    [[0, 0] as const, ...pointsOf(g.lines)]
      .map(([t, n]) => `${px(x(t))},${px(y(n, 'rate'))}`)
      .join(' '),
  ),
)
const band = (index: number | null) => {
  const line = index === null ? undefined : active.value?.lines[index]
  return line && line.seconds > 0
    ? { x: x(line.at_s), width: x(line.at_s + line.seconds) - x(line.at_s) }
    : null
}
const corners = computed(() => {
  const group = active.value
  if (!group || props.fixed) return []
  return group.lines
    .map((line, i) => ({ i, x: x(line.at_s + line.seconds), y: y(line.end, group.unit), line }))
    .filter(
      ({ i, line }) =>
        line.seconds > 0 &&
        (group.lines.length <= MOST_HANDLES || i === props.chosen || i === props.pointed),
    )
})
const summary = computed(
  () =>
    `Planned load over ${clock(seconds.value)} (min:s): up to ${byUsers.value.length ? `${users(mostUsers.value)} users` : ''}` +
    `${byRate.value.length ? ` ${loadFigure(mostRate.value)} arrivals per second` : ''}`,
)

let grip: { i: number; x: number; y: number; line: Drawn; moved: boolean } | null = null
function press(event: PointerEvent, i: number) {
  const line = active.value?.lines[i]
  if (event.button !== 0 || !line) return
  ;(event.currentTarget as Element).setPointerCapture(event.pointerId)
  held.value = { ...scale.value }
  grip = { i, x: event.clientX, y: event.clientY, line, moved: false }
  emit('choose', i)
}
function drag(event: PointerEvent) {
  const unit = active.value?.unit
  if (!grip || !unit) return
  const [dx, dy] = [event.clientX - grip.x, event.clientY - grip.y]
  const to: { load?: number; seconds?: number } = {}
  const perPx = scale.value.seconds / (width.value - LEFT - right.value)
  if (Math.abs(dx) > GRIP_PX) to.seconds = Math.max(1, grip.line.seconds + dx * perPx)
  if (Math.abs(dy) > GRIP_PX) to.load = Math.max(0, grip.line.end - (dy / span) * top(unit))
  grip.moved ||= to.seconds !== undefined || to.load !== undefined
  if (grip.moved) emit('drag', grip.i, to)
}
function release() {
  if (grip?.moved) emit('dropped')
  grip = null
  held.value = null
}
const ARROWS: Record<string, [number, number]> = {
  ArrowLeft: [-1, 0],
  ArrowRight: [1, 0],
  ArrowUp: [0, 1],
  ArrowDown: [0, -1],
}
function step(event: KeyboardEvent, i: number) {
  const way = ARROWS[event.key]
  const line = active.value?.lines[i]
  if (!way || !line || event.altKey) return
  event.preventDefault()
  const times = event.shiftKey ? 10 : 1
  const count = Math.max(
    1,
    line.stretches.reduce((sum, s) => sum + s.stairs, 0),
  )
  const unit = line.seconds < 60 * count ? count : 5 * count
  if (way[0]) emit('drag', i, { seconds: Math.max(1, line.seconds + way[0] * unit * times) })
  else emit('drag', i, { load: Math.max(0, line.end + way[1] * times) })
  emit('dropped')
}
</script>

<template>
  <figure ref="box" class="min-w-0" data-testid="terrain">
    <svg
      :width="width"
      :height="HEIGHT"
      role="group"
      :aria-label="summary"
      class="block touch-none select-none"
    >
      <g class="figures" font-size="11" fill="var(--ink-2)">
        <template v-if="byUsers.length">
          <text :x="LEFT - 8" :y="10" text-anchor="end">users</text>
          <g v-for="n in userTicks" :key="`u${n}`">
            <line
              :x1="LEFT"
              :x2="width - right"
              :y1="y(n, 'users')"
              :y2="y(n, 'users')"
              stroke="var(--rule)"
              :opacity="n ? 0.6 : 1"
            />
            <text :x="LEFT - 8" :y="y(n, 'users') + 4" text-anchor="end">{{ users(n) }}</text>
          </g>
        </template>
        <template v-if="byRate.length">
          <text :x="width - 4" :y="10" text-anchor="end">arrivals per s</text>
          <text v-for="n in rateTicks" :key="`r${n}`" :x="width - right + 8" :y="y(n, 'rate') + 4">
            {{ loadFigure(n) }}
          </text>
        </template>
        <g v-for="t in ticks" :key="`t${t}`">
          <line
            :x1="x(t)"
            :x2="x(t)"
            :y1="HEIGHT - BOTTOM"
            :y2="HEIGHT - BOTTOM + 4"
            stroke="var(--rule)"
          />
          <text :x="x(t)" :y="HEIGHT - BOTTOM + 16" text-anchor="middle">{{ clock(t) }}</text>
        </g>
        <text :x="(LEFT + width - right) / 2" :y="HEIGHT - 4" text-anchor="middle">
          time since start, min:s
        </text>
      </g>
      <template v-if="searched">
        <defs>
          <pattern
            id="not-known-yet"
            width="7"
            height="7"
            patternUnits="userSpaceOnUse"
            patternTransform="rotate(45)"
          >
            <line x1="0" y1="0" x2="0" y2="7" stroke="var(--ink-2)" stroke-width="1" />
          </pattern>
        </defs>
        <rect
          :x="x(0)"
          :width="Math.max(0, x(searched.seconds) - x(0))"
          :y="y(searched.end, 'users')"
          :height="Math.max(0, y(0, 'users') - y(searched.end, 'users'))"
          fill="url(#not-known-yet)"
          opacity="0.25"
          data-testid="not-known-yet"
        />
        <text :x="x(0) + 10" :y="y(searched.end, 'users') + 18" fill="var(--ink)" font-size="12.5">
          somewhere below this line, as the run decides
        </text>
      </template>
      <g v-for="(area, i) in areas" :key="area.name">
        <polygon v-if="!searched" :points="area.area" :fill="area.fill" :opacity="i ? 0.22 : 0.4" />
        <polyline :points="area.line" fill="none" stroke="var(--ink-2)" stroke-width="1.2" />
      </g>
      <polyline
        v-for="(line, i) in rates"
        :key="i"
        :points="line"
        fill="none"
        stroke="var(--ink)"
        stroke-width="1.2"
        stroke-dasharray="5 4"
      />
      <rect
        v-for="(shown, i) in [band(chosen), pointed === chosen ? null : band(pointed)].filter(
          (b) => b !== null,
        )"
        :key="i"
        :x="shown!.x"
        :width="shown!.width"
        :y="TOP"
        :height="span"
        fill="var(--copper)"
        opacity="0.1"
        data-testid="chosen-stretch"
      />
      <rect
        v-for="(line, i) in active?.lines ?? []"
        :key="`b${i}`"
        :x="x(line.at_s)"
        :width="Math.max(0, x(line.at_s + line.seconds) - x(line.at_s))"
        :y="TOP"
        :height="span"
        fill="transparent"
        @pointerenter="$emit('point', i)"
        @pointerleave="$emit('point', null)"
        @click="$emit('choose', i)"
      />
      <circle
        v-for="corner in corners"
        :key="`c${corner.i}`"
        :cx="corner.x"
        :cy="corner.y"
        r="5"
        :fill="corner.i === chosen ? 'var(--copper)' : 'var(--card)'"
        stroke="var(--copper)"
        stroke-width="1.5"
        class="cursor-move"
        role="slider"
        :aria-label="`End of sentence ${corner.i + 1}`"
        :aria-valuenow="corner.line.end"
        :aria-valuetext="`${loadFigure(corner.line.end)} at ${clock(corner.line.at_s + corner.line.seconds)}`"
        :tabindex="corner.i === (chosen ?? 0) ? 0 : -1"
        @pointerdown="press($event, corner.i)"
        @pointermove="drag"
        @pointerup="release"
        @pointercancel="release"
        @keydown="step($event, corner.i)"
      />
    </svg>
    <figcaption v-if="areas.length > 1" class="label flex flex-wrap gap-x-4">
      <span v-for="(area, i) in areas" :key="area.name" class="flex min-w-0 items-center gap-1.5">
        <svg width="12" height="12" aria-hidden="true">
          <rect
            width="12"
            height="12"
            :fill="area.fill"
            :opacity="i ? 0.3 : 0.5"
            stroke="var(--ink-2)"
          />
        </svg>
        <span class="truncate">{{ area.name }}</span>
      </span>
    </figcaption>
  </figure>
</template>
