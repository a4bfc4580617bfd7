<script setup lang="ts">
import type { EChartsType } from 'echarts/core'
import { computed, nextTick, ref, shallowRef, watch } from 'vue'
import VChart from 'vue-echarts'
import './echarts'
import { stretchBetween, useDragging, type Stretch } from './dragging'
import { CAPTION, LEFT, RIGHT } from './layout'
import { worthDrawing } from './redraw'
import { draw, shownRows } from './runPlate'
import { placeAt, stretchOf, viewOf, type PlateInput } from './view'

export interface Highlight {
  rows: string[]
  low: number | null
  high: number | null
}

/** Plates of one `group` have one cursor. */
const props = defineProps<{ input: PlateInput; highlight: Highlight | null; group?: string }>()
const emit = defineEmits<{ window: [Stretch | null]; point: [number | null] }>()

const chart = shallowRef<(EChartsType & { $el?: HTMLElement }) | null>(null)
const cursor = ref<number | null>(null)
watch(cursor, (x) => emit('point', x))
const band = ref<{ left: number; width: number } | null>(null)

const drawn = shallowRef(props.input)
watch(
  () => props.input,
  (now) => {
    if (worthDrawing(now, drawn.value)) drawn.value = now
  },
)
const drawing = computed(() => draw(drawn.value))
/** What there is now, however old the picture: the cursor moves over it and makes nothing anew. */
const newest = computed(() => {
  const view = viewOf(props.input)
  return { view, rows: shownRows(view) }
})
const figures = computed(() => {
  const { view, rows } = newest.value
  const place = placeAt(view, cursor.value)
  return new Map(rows.map((row) => [row.id, place ? row.figures(place) : []]))
})
const lit = computed(() => new Set(props.highlight?.rows ?? []))

function onPointer(event: unknown) {
  const info = (event as { axesInfo?: { value: number }[] }).axesInfo?.[0]
  cursor.value = info ? info.value : null
}

const { begin, go, end, cancel, marked } = useDragging((a, b, width) => {
  const found = stretchBetween(a, b, width, drawing.value.view.x)
  if (found) emit('window', found)
})
function press(event: PointerEvent) {
  if (props.input.axis === 'clock') begin(event)
}

function placeBand() {
  const wanted = props.highlight
  band.value = null
  if (!wanted || wanted.low === null || wanted.high === null || !chart.value) return
  const found = stretchOf(props.input, wanted.low, wanted.high)
  if (!found) return
  const { min, max } = drawing.value.view.x
  const [first, last] = found
  if (last < min || first > max || (first <= min && last >= max)) return
  const [from, to] = found.map((x) =>
    Number(chart.value?.convertToPixel({ xAxisIndex: 0 }, Math.min(max, Math.max(min, x)))),
  )
  if (from === undefined || to === undefined || Number.isNaN(from + to)) return
  band.value = { left: from - 1, width: Math.max(3, to - from + 2) }
}

watch(
  () => [props.highlight, props.input] as const,
  () => void nextTick(placeBand),
)
</script>

<template>
  <div
    class="relative"
    :style="{ height: `${drawing.height}px` }"
    data-testid="plate"
    :data-axis="input.axis"
    @dblclick="emit('window', null)"
    @mouseleave="cursor = null"
    @pointerdown="press"
    @pointermove="go"
    @pointerup="end"
    @pointercancel="cancel"
    @keydown.esc="cancel"
  >
    <VChart
      ref="chart"
      :option="drawing.option"
      :group="group"
      :update-options="{ replaceMerge: ['series', 'grid', 'xAxis', 'yAxis'] }"
      autoresize
      aria-hidden="true"
      @update-axis-pointer="onPointer"
      @globalout="cursor = null"
    />
    <div
      v-if="band"
      class="pointer-events-none absolute border-x border-copper bg-copper/15"
      :style="{ left: `${band.left}px`, width: `${band.width}px`, top: '18px', bottom: '38px' }"
      data-testid="evidence-band"
    />
    <div
      v-if="marked"
      class="pointer-events-none absolute inset-y-0 border-x border-ink-2 bg-ink/10"
      :style="{ left: `${marked.left}px`, width: `${marked.width}px` }"
    />
    <template v-if="input.beside">
      <p
        v-for="row in drawing.rows"
        :key="row.id"
        class="pointer-events-none absolute right-0 flex gap-2 overflow-hidden leading-[18px] whitespace-nowrap"
        :class="lit.size && !lit.has(row.id) ? 'opacity-45' : ''"
        :style="{ top: `${row.top - CAPTION}px`, left: `${LEFT}px` }"
        :data-row="row.id"
      >
        <span class="label">{{ row.name }}</span>
        <span class="figures truncate text-[13px]">{{ figures.get(row.id)?.join(', ') }}</span>
      </p>
    </template>
    <div
      v-for="row in input.beside ? [] : drawing.rows"
      :key="row.id"
      class="pointer-events-none absolute right-0 flex flex-col justify-start border-l-2 pl-2 transition-opacity"
      :class="[
        lit.has(row.id) ? 'border-copper' : 'border-transparent',
        lit.size && !lit.has(row.id) ? 'opacity-45' : '',
      ]"
      :style="{ top: `${row.top - 2}px`, width: `${RIGHT - 12}px`, height: `${row.height + 4}px` }"
      :data-row="row.id"
    >
      <template v-if="row.kind === 'pin'">
        <p class="truncate text-[13px] leading-[17px]" :title="row.name">{{ row.name }}</p>
        <p
          v-for="line in figures.get(row.id)"
          :key="line"
          class="figures truncate text-[13px] leading-[16px]"
          :title="line"
        >
          {{ line }}
        </p>
      </template>
      <template v-else-if="row.kind === 'strip'">
        <p class="flex justify-between gap-2 text-[13px] leading-[18px]">
          <span class="truncate">{{ row.name }}</span>
          <span class="figures whitespace-nowrap">{{ figures.get(row.id)?.[0] }}</span>
        </p>
      </template>
      <template v-else>
        <p class="label truncate" :title="row.name">{{ row.name }}</p>
        <p
          v-for="line in figures.get(row.id)"
          :key="line"
          class="figures truncate text-[13.5px] leading-snug"
          :title="line"
        >
          {{ line }}
        </p>
      </template>
    </div>
  </div>
</template>
