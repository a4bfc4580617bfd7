<script setup lang="ts">
import { computed } from 'vue'

const props = defineProps<{ grade: string; wordless?: boolean }>()
const known: Record<string, [glyph: string, word: string, look: string]> = {
  holds: ['○', 'holds', 'text-moss'],
  strained: ['◐', 'strained', 'text-ochre'],
  saturated: ['●', 'saturated', 'text-ink'],
  broken: ['✕', 'broken', 'text-brick'],
  open: ['◌', 'no answer', 'text-ink-2'],
}
const found = computed(() => known[props.grade] ?? (['◌', props.grade, 'text-ink-2'] as const))
</script>

<template>
  <span class="whitespace-nowrap" :class="found[2]">
    <span aria-hidden="true">{{ found[0] }}</span>
    <span :class="wordless ? 'sr-only' : 'ml-1'">{{ found[1] }}</span>
  </span>
</template>
