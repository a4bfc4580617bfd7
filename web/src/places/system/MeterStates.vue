<script setup lang="ts">
import type { MeterCheck } from '@/api/systems'
import { stateOf } from '@/ui/meterState'

/** What each source of a meter says. */
defineProps<{ checks: MeterCheck[] }>()
</script>

<template>
  <ul class="space-y-1.5" data-testid="meter-states">
    <li v-for="check in checks" :key="check.source + check.instance" class="text-[13.5px]">
      <span :class="stateOf(check.state).look">
        {{ stateOf(check.state).glyph }} {{ stateOf(check.state).word }}
      </span>
      <code v-if="check.instance" class="figures ml-2 text-[12.5px] break-all">{{
        check.instance
      }}</code>
      <span class="block break-words text-ink-2">{{ check.text }}</span>
    </li>
  </ul>
</template>
