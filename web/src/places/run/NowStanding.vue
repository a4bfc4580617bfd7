<script setup lang="ts">
import type { Schemas } from '@/api/client'
import { percent } from '@/ui/format'

/** How objectives and stop rules stand by the last seconds. */
defineProps<{ lines: Schemas['StandingLine'][] }>()

function state(one: Schemas['StandingLine']): { glyph: string; text: string } {
  if (one.value === null) return { glyph: '·', text: 'too little is known' }
  if (one.kind === 'stop rule')
    return { glyph: one.value < 0.8 ? '○' : '◐', text: `at ${percent(one.value)} of it` }
  const kept = one.value <= one.limit
  const what = one.kind === 'errors' ? 'failed' : 'took longer'
  return {
    glyph: kept ? '○' : '✕',
    text: `${percent(one.value)} ${what}, ${Number((one.limit * 100).toPrecision(3))} % may`,
  }
}
</script>

<template>
  <section v-if="lines.length" class="border-t border-rule pt-2" data-testid="standing-now">
    <h2 class="text-[15.5px]">By the last seconds</h2>
    <ul class="text-[13.5px]">
      <li v-for="one in lines" :key="one.kind + one.text" class="flex gap-2">
        <span :class="state(one).glyph === '✕' ? 'text-brick' : ''">{{ state(one).glyph }}</span>
        <span class="min-w-0 break-words">
          {{ one.kind === 'stop rule' ? `Stop rule, ${one.text}` : one.text }}:
          <span class="figures">{{ state(one).text }}</span>
        </span>
      </li>
    </ul>
  </section>
</template>
