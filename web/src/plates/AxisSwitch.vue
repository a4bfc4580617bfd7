<script setup lang="ts">
import type { Axis } from './view'

/** The clock or the load: what a plate is drawn along. */
const axis = defineModel<Axis>({ required: true })
</script>

<template>
  <div role="radiogroup" aria-label="Axis" class="flex overflow-hidden rounded border border-rule">
    <button
      v-for="choice in ['clock', 'load'] as const"
      :key="choice"
      type="button"
      role="radio"
      :aria-checked="axis === choice"
      class="px-3 py-1"
      :class="axis === choice ? 'bg-ink text-paper' : 'bg-card'"
      @click="axis = choice"
    >
      {{ choice === 'clock' ? 'Over time' : 'Against load' }}
    </button>
  </div>
</template>
