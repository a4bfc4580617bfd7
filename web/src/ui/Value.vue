<script setup lang="ts">
import { computed } from 'vue'
import { useTyped } from './typed'

/** A value in a sentence: typed in place, stepped by arrow keys. */
const props = defineProps<{
  label: string
  value: unknown
  parse: (text: string, before: unknown) => unknown
  step: (value: unknown, by: number) => unknown
  fault?: string | undefined
  disabled?: boolean
}>()
const emit = defineEmits<{ take: [value: unknown]; next: [] }>()
const shown = () => (props.value === undefined || props.value === null ? '' : String(props.value))
const { text, flush, follow, entered, left, typed, changed } = useTyped(shown, (given) =>
  emit('take', props.parse(given, props.value)),
)
const width = computed(() => `${Math.max(2, text.value.length) + 1.5}ch`)

function enter(event: FocusEvent) {
  entered()
  ;(event.target as HTMLInputElement).select()
}
async function arrow(event: KeyboardEvent, by: number) {
  if (event.altKey || event.ctrlKey || event.metaKey) return
  event.preventDefault()
  flush()
  emit('take', props.step(props.value, event.shiftKey ? 10 * by : by))
  await Promise.resolve()
  follow()
}
function done() {
  flush()
  emit('next')
}
</script>

<template>
  <input
    :value="text"
    :aria-label="label"
    :aria-invalid="Boolean(fault)"
    :title="fault"
    :disabled="disabled"
    :style="{ width }"
    type="text"
    autocomplete="off"
    spellcheck="false"
    class="figures rounded-sm border-b border-dashed bg-card px-1 text-center disabled:bg-transparent"
    :class="fault ? 'border-brick text-brick' : 'border-ink-2'"
    @focus="enter"
    @blur="left"
    @input="typed(($event.target as HTMLInputElement).value)"
    @change="changed(($event.target as HTMLInputElement).value)"
    @keydown.up="arrow($event, 1)"
    @keydown.down="arrow($event, -1)"
    @keydown.enter.prevent="done"
  />
</template>
