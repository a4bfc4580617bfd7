<script setup lang="ts">
import { computed } from 'vue'
import { phasesOf, type Line } from '@/api/requests'
import { seconds } from '@/ui/format'

/** A request as a bar: its phases one after the other as hatches of one ink, as long as it took of `most`; where it
 * began `after` so much, it stands there. */
const props = defineProps<{ line: Line; most: number; after?: number }>()
const phases = computed(() => phasesOf(props.line))
const share = (value: number) => `${(100 * value) / Math.max(1e-9, props.most)}%`
const told = computed(() =>
  phases.value.map((one) => `${one.name} ${seconds(one.seconds)}`).join(', '),
)
</script>

<template>
  <span class="relative block h-3 w-full" role="img" :aria-label="told" :title="told">
    <span
      class="absolute inset-y-0 flex min-w-[2px] overflow-hidden rounded-[1px]"
      :class="line.error ? 'text-brick' : 'text-copper'"
      :style="{ left: share(after ?? 0), width: share(line.total_s) }"
    >
      <span
        v-for="one in phases"
        :key="one.hatch"
        class="h-full border border-current"
        :class="`hatch-${one.hatch}`"
        :style="{ flex: `${one.seconds / line.total_s} 0 0` }"
      />
    </span>
  </span>
</template>
