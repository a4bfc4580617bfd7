<script setup lang="ts">
import { computed } from 'vue'
import { given, users } from './format'

/** The planned load as a small picture: users over time. */
const props = defineProps<{ load: { t: number; users: number }[] }>()
const WIDTH = 132
const HEIGHT = 26
const end = computed(() => props.load.at(-1)?.t ?? 0)
const peak = computed(() => Math.max(0, ...props.load.map((corner) => corner.users)))
const points = computed(() =>
  props.load.map(({ t, users: count }) => {
    const x = (t / (end.value || 1)) * WIDTH
    return `${x.toFixed(1)},${(HEIGHT - 1 - (count / (peak.value || 1)) * (HEIGHT - 3)).toFixed(1)}`
  }),
)
</script>

<template>
  <svg
    v-if="load.length"
    :width="WIDTH"
    :height="HEIGHT"
    role="img"
    :aria-label="`Load: up to ${users(peak)} users over ${given(end)}`"
    class="block shrink-0"
  >
    <polygon
      :points="`0,${HEIGHT} ${points.join(' ')} ${WIDTH},${HEIGHT}`"
      fill="var(--silt)"
      opacity="0.25"
    />
    <polyline :points="points.join(' ')" fill="none" stroke="var(--copper)" stroke-width="1.4" />
  </svg>
</template>
