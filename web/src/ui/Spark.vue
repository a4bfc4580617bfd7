<script setup lang="ts">
import { computed } from 'vue'

/** A small line over a run; what is unknown is a gap. */
const props = defineProps<{ values: (number | null)[]; label: string; small?: boolean }>()
const WIDTH = props.small ? 96 : 132
const HEIGHT = props.small ? 18 : 26
const paths = computed(() => {
  const known = props.values.filter((v): v is number => v !== null)
  const low = Math.min(0, ...known)
  const high = Math.max(...known, low + 1e-12)
  const x = (i: number) => (i / Math.max(1, props.values.length - 1)) * WIDTH
  const y = (v: number) => HEIGHT - 2 - ((v - low) / (high - low)) * (HEIGHT - 4)
  let pen = 'M'
  let path = ''
  props.values.forEach((v, i) => {
    if (v === null) {
      pen = 'M'
      return
    }
    path += `${pen}${x(i).toFixed(1)},${y(v).toFixed(1)}`
    pen = 'L'
  })
  return path
})
</script>

<template>
  <svg :width="WIDTH" :height="HEIGHT" role="img" :aria-label="label" class="block">
    <path :d="paths" fill="none" stroke="var(--lake)" stroke-width="1.4" stroke-linecap="round" />
  </svg>
</template>
