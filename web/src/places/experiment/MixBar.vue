<script setup lang="ts">
import { computed, ref } from 'vue'
import { hundredths, placeOf, withBorder, type Portion } from './mix'

/** Who does what, as one divided bar: its borders are dragged, or moved by arrow keys. */
const props = defineProps<{ portions: Portion[] }>()
const emit = defineEmits<{ change: [shares: Record<string, number>] }>()

const bar = ref<HTMLElement>()
const dragged = ref<{ border: number; parts: number[] } | null>(null)
const parts = computed(() => dragged.value?.parts ?? hundredths(props.portions))

function tell(next: number[]) {
  emit('change', Object.fromEntries(props.portions.map((one, i) => [one.name, next[i] ?? 1])))
}
function take(event: PointerEvent, border: number) {
  if (event.button !== 0) return
  ;(event.currentTarget as HTMLElement).setPointerCapture(event.pointerId)
  dragged.value = { border, parts: parts.value }
}
function drag(event: PointerEvent) {
  const box = bar.value?.getBoundingClientRect()
  if (!dragged.value || !box) return
  const place = ((event.clientX - box.left) / Math.max(1, box.width)) * 100
  const { border } = dragged.value
  dragged.value = { border, parts: withBorder(dragged.value.parts, border, place) }
}
function drop() {
  if (dragged.value) tell(dragged.value.parts)
  dragged.value = null
}
const STEPS: Record<string, number> = { ArrowLeft: -1, ArrowRight: 1, PageDown: -10, PageUp: 10 }
function key(event: KeyboardEvent, border: number) {
  const by = STEPS[event.key]
  if (by === undefined) return
  event.preventDefault()
  tell(withBorder(parts.value, border, placeOf(parts.value, border) + by))
}
</script>

<template>
  <div ref="bar" class="relative mt-1 mb-2 flex h-9 touch-none border border-rule select-none">
    <div
      v-for="(one, i) in portions"
      :key="one.name"
      class="flex min-w-0 items-center overflow-hidden px-1.5 text-[13px] whitespace-nowrap"
      :class="i % 2 ? 'bg-card' : 'bg-silt/35'"
      :style="{ width: `${parts[i]}%` }"
      :title="`${one.name}: ${parts[i]} %`"
      data-testid="mix-part"
    >
      <span class="truncate">{{ one.name }}</span>
      <span class="ml-1.5 font-mono text-ink-2">{{ parts[i] }} %</span>
    </div>
    <span
      v-for="border in portions.length - 1"
      :key="border"
      role="slider"
      tabindex="0"
      aria-orientation="horizontal"
      :aria-label="`Border between ${portions[border - 1]?.name} and ${portions[border]?.name}`"
      :aria-valuenow="parts[border - 1]"
      aria-valuemin="1"
      :aria-valuemax="(parts[border - 1] ?? 0) + (parts[border] ?? 0) - 1"
      :aria-valuetext="`${parts[border - 1]} % ${portions[border - 1]?.name}, ${parts[border]} % ${portions[border]?.name}`"
      class="absolute inset-y-0 z-10 w-3 -translate-x-1/2 cursor-col-resize"
      :style="{ left: `${placeOf(parts, border - 1)}%` }"
      @pointerdown="take($event, border - 1)"
      @pointermove="drag"
      @pointerup="drop"
      @pointercancel="dragged = null"
      @keydown="key($event, border - 1)"
    >
      <span class="mx-auto block h-full w-0.5 bg-ink" />
    </span>
  </div>
</template>
