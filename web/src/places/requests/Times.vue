<script setup lang="ts">
import { computed, ref } from 'vue'
import type { Requests } from '@/api/requests'
import { along, ticks } from '@/plates/shape'
import { given, seconds, users } from '@/ui/format'

/** How long the requests looked at took, as bars along a logarithmic scale; a stretch of it can be chosen. */
const props = defineProps<{ found: Requests }>()
const emit = defineEmits<{ choose: [{ slower_ms: number; within_ms: number }] }>()
const WIDTH = 680
const BOX = { left: 24, right: 656, top: 6, bottom: 64 }
const edges = computed(() => props.found.edges_s)
const x = computed(() => along(edges.value, BOX))
const most = computed(() => Math.max(1, ...props.found.bars))
const marks = computed(() => {
  const { p50_s, p95_s, p99_s } = props.found.together ?? {}
  return [p50_s, p95_s, p99_s].flatMap((at) => (at == null ? [] : [x.value(at)]))
})
/** The bar that is pointed at, and where a stretch was begun. */
const at = ref<number | null>(null)
const from = ref<number | null>(null)
const chosen = computed(() => {
  if (at.value === null) return null
  const other = from.value ?? at.value
  return { first: Math.min(at.value, other), last: Math.max(at.value, other) }
})
const told = computed(() => {
  const stretch = chosen.value
  if (!stretch) return ''
  const count = props.found.bars.slice(stretch.first, stretch.last + 1).reduce((a, b) => a + b, 0)
  return `${users(count)} took ${seconds(edges.value[stretch.first])} to ${seconds(edges.value[stretch.last + 1])}`
})
function barAt(event: PointerEvent): number | null {
  const box = (event.currentTarget as SVGElement).getBoundingClientRect()
  const place = ((event.clientX - box.left) / Math.max(1, box.width)) * WIDTH
  const next = edges.value.findIndex((edge) => x.value(edge) > place)
  return next > 0 ? next - 1 : next === 0 ? 0 : edges.value.length - 2
}
function begin(event: PointerEvent) {
  ;(event.currentTarget as SVGElement).setPointerCapture(event.pointerId)
  at.value = from.value = barAt(event)
}
function take() {
  const stretch = chosen.value
  from.value = null
  if (!stretch) return
  // A bar holds what took from its first edge to before its second, in whole µs.
  const slower_ms = (edges.value[stretch.first] ?? 0) * 1000 - 0.001
  const within_ms = (edges.value[stretch.last + 1] ?? 0) * 1000 - 0.001
  emit('choose', { slower_ms, within_ms })
}
function key(event: KeyboardEvent) {
  const by = { ArrowLeft: -1, ArrowRight: 1 }[event.key]
  const last = edges.value.length - 2
  if (event.key === 'Enter') return take()
  if (by === undefined || last < 0) return
  event.preventDefault()
  const before = at.value ?? (by > 0 ? -1 : last + 1)
  if (event.shiftKey) from.value ??= before
  else from.value = null
  at.value = Math.min(last, Math.max(0, before + by))
}
</script>

<template>
  <div v-if="edges.length" data-testid="times">
    <svg
      :viewBox="`0 0 ${WIDTH} 84`"
      class="w-full max-w-3xl cursor-crosshair touch-none"
      tabindex="0"
      role="img"
      aria-label="How many took how long; arrow keys choose a bar, with Shift several, Enter looks at these alone"
      @pointerdown="begin"
      @pointermove="at = barAt($event)"
      @pointerup="take"
      @pointerleave="from === null && (at = null)"
      @keydown="key"
    >
      <g font-size="12" fill="var(--ink-2)">
        <template v-for="tick in ticks(edges)" :key="tick">
          <line :x1="x(tick)" :x2="x(tick)" :y1="BOX.top" :y2="BOX.bottom" stroke="var(--rule)" />
          <text :x="x(tick)" :y="BOX.bottom + 15" text-anchor="middle">{{ given(tick) }}</text>
        </template>
      </g>
      <rect
        v-for="(count, i) in found.bars"
        :key="i"
        :x="x(edges[i] ?? 0)"
        :width="Math.max(0.5, x(edges[i + 1] ?? 0) - x(edges[i] ?? 0) - 0.5)"
        :y="BOX.bottom - (count / most) * (BOX.bottom - BOX.top)"
        :height="(count / most) * (BOX.bottom - BOX.top)"
        fill="var(--copper)"
        :fill-opacity="chosen && i >= chosen.first && i <= chosen.last ? 0.9 : 0.4"
      />
      <line
        v-for="mark in marks"
        :key="mark"
        :x1="mark"
        :x2="mark"
        :y1="BOX.top"
        :y2="BOX.bottom"
        stroke="var(--ink)"
        stroke-dasharray="2 3"
      />
    </svg>
    <p class="label min-h-5" role="status">
      {{
        told || 'Dashed: half, 95 % and 99 % took no longer. Drag over bars to look at these alone.'
      }}
    </p>
  </div>
</template>
