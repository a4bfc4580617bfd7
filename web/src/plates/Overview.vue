<script setup lang="ts">
import { computed, ref } from 'vue'
import { clock } from '@/ui/format'
import { SHORTEST_S, type Stretch } from './dragging'
import { LEFT, RIGHT } from './layout'
import { HEIGHT, moved, overview, widened, WIDTH } from './overview'
import type { Plate, Profile } from './view'

/** The whole run below its plate: the stretch that is looked at can be moved, or another one drawn. */
const props = defineProps<{ plate: Plate; profile: Profile; stretch: Stretch }>()
const emit = defineEmits<{ window: [Stretch | null] }>()

const drawing = computed(() => overview(props.plate, props.profile))
const box = ref<HTMLElement | null>(null)
const drag = ref<{ at: number; from: Stretch | null; to: number } | null>(null)

const x = (t: number) => (Math.min(Math.max(0, t), drawing.value.end) / drawing.value.end) * WIDTH
const shown = computed<Stretch>(() => {
  const now = drag.value
  if (!now) return props.stretch
  if (now.from) return moved(now.from, now.to - now.at, drawing.value.end)
  const [from, until] = [Math.min(now.at, now.to), Math.max(now.at, now.to)]
  return { from: Math.floor(from), until: Math.ceil(until) }
})

function secondAt(event: PointerEvent): number {
  const { left, width } = box.value?.getBoundingClientRect() ?? { left: 0, width: 1 }
  return (Math.min(1, Math.max(0, (event.clientX - left) / width)) || 0) * drawing.value.end
}
function press(event: PointerEvent) {
  if (event.button !== 0) return
  ;(event.currentTarget as HTMLElement).setPointerCapture(event.pointerId)
  const at = secondAt(event)
  const inside = at >= props.stretch.from && at <= props.stretch.until
  drag.value = { at, to: at, from: inside ? props.stretch : null }
}
function go(event: PointerEvent) {
  if (drag.value) drag.value = { ...drag.value, to: secondAt(event) }
}
function end() {
  const { from, until } = shown.value
  const was = drag.value
  drag.value = null
  if (was && Math.abs(was.to - was.at) >= 1)
    emit('window', { from, until: Math.max(until, from + SHORTEST_S) })
}
const KEYS: Record<string, (at: Stretch, by: number) => Stretch> = {
  ArrowLeft: (at, by) => moved(at, -by, drawing.value.end),
  ArrowRight: (at, by) => moved(at, by, drawing.value.end),
  ArrowUp: (at, by) => widened(at, by, drawing.value.end, SHORTEST_S),
  ArrowDown: (at, by) => widened(at, -by, drawing.value.end, SHORTEST_S),
}
function key(event: KeyboardEvent) {
  const act = KEYS[event.key]
  if (!act) return
  event.preventDefault()
  const by = Math.max(1, Math.round((props.stretch.until - props.stretch.from) / 10))
  emit('window', act(props.stretch, by))
}
</script>

<template>
  <div
    :style="{ paddingLeft: `${LEFT}px`, paddingRight: `${RIGHT}px` }"
    data-testid="overview"
    class="relative"
  >
    <div
      ref="box"
      class="cursor-grab touch-none rounded-sm border border-rule bg-card focus-visible:outline-2"
      tabindex="0"
      role="slider"
      aria-label="Stretch that is looked at: arrows move it, up and down make it longer and shorter"
      :aria-valuenow="Math.round(shown.from)"
      aria-valuemin="0"
      :aria-valuemax="Math.round(drawing.end)"
      :aria-valuetext="`${clock(shown.from)} to ${clock(shown.until)} of ${clock(drawing.end)}`"
      @pointerdown="press"
      @pointermove="go"
      @pointerup="end"
      @pointercancel="drag = null"
      @dblclick="emit('window', null)"
      @keydown="key"
    >
      <svg
        :viewBox="`0 0 ${WIDTH} ${HEIGHT}`"
        preserveAspectRatio="none"
        class="block w-full"
        :height="HEIGHT"
        aria-hidden="true"
      >
        <path :d="drawing.terrain" fill="var(--silt)" opacity="0.4" />
        <path
          :d="drawing.throughput"
          fill="none"
          stroke="var(--lake)"
          stroke-width="1.2"
          vector-effect="non-scaling-stroke"
        />
        <rect
          :x="x(shown.from)"
          y="0"
          :width="Math.max(3, x(shown.until) - x(shown.from))"
          :height="HEIGHT"
          fill="var(--copper)"
          fill-opacity="0.14"
          stroke="var(--copper)"
          vector-effect="non-scaling-stroke"
        />
      </svg>
    </div>
    <p class="label absolute top-1 right-0 pl-2" :style="{ width: `${RIGHT - 12}px` }">
      The whole run, {{ clock(drawing.end) }}
    </p>
  </div>
</template>
