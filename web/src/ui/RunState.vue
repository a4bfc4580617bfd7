<script setup lang="ts">
import { computed } from 'vue'

const props = defineProps<{ state: string; simulated?: boolean; seeded?: boolean }>()
const looks: Record<string, [glyph: string, look: string]> = {
  queued: ['◌', 'text-ink-2'],
  preparing: ['◔', 'text-ink-2'],
  running: ['◑', 'text-copper'],
  draining: ['◕', 'text-copper'],
  analysing: ['◕', 'text-copper'],
  finished: ['●', 'text-moss'],
  stopped: ['■', 'text-ochre'],
  failed: ['✕', 'text-brick'],
}
const found = computed(() => looks[props.state] ?? (['◌', 'text-ink-2'] as const))
</script>

<template>
  <span :class="found[1]">
    <span class="whitespace-nowrap"
      ><span aria-hidden="true">{{ found[0] }}</span> {{ state }}</span
    >
    <span
      v-if="seeded"
      class="label ml-2"
      title="Made by the practice twin, in virtual time, before it came with the product: an example to read."
      >made by the practice twin</span
    ><span
      v-else-if="simulated"
      class="label ml-2"
      title="Played in virtual time against a twin of the system: nothing was sent, nothing measured."
      >rehearsal</span
    >
  </span>
</template>
