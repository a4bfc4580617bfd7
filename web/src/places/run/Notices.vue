<script setup lang="ts">
import type { Schemas } from '@/api/client'
import { clock } from '@/ui/format'

/** What deserves a look, the newest first, each a way to its place on the plate. */
defineProps<{ notices: Schemas['NoticeLine'][]; live: boolean }>()
defineEmits<{ look: [number]; show: [string]; hide: [] }>()
const SEEN = 6

function when(one: Schemas['NoticeLine'], live: boolean): string {
  if (['plan', 'restart', 'reset'].includes(one.kind)) return clock(one.at_s)
  if (one.until_s !== null) return `${clock(one.at_s)} to ${clock(one.until_s)}`
  return live ? `since ${clock(one.at_s)}` : `from ${clock(one.at_s)} on`
}
</script>

<template>
  <section class="space-y-1 border-t border-rule pt-2" data-testid="notices">
    <h2 class="text-[15.5px]">Notices</h2>
    <p v-if="!notices.length" class="text-ink-2">
      None so far. Objectives, errors, the load ordered, the generators, stop rules, meters, and
      what resources do for the steps are watched.
    </p>
    <component
      :is="part.length && i ? 'details' : 'div'"
      v-for="(part, i) in [notices.slice(0, SEEN), notices.slice(SEEN)]"
      :key="i"
    >
      <summary v-if="part.length && i" class="label cursor-pointer">
        {{ part.length }} earlier
      </summary>
      <ul v-if="part.length" class="space-y-1">
        <li v-for="one in part" :key="`${one.kind} ${one.text} ${one.at_s}`">
          <button
            type="button"
            class="w-full text-left hover:underline"
            @click="$emit('look', one.at_s)"
            @mouseenter="$emit('show', one.row)"
            @mouseleave="$emit('hide')"
            @focus="$emit('show', one.row)"
            @blur="$emit('hide')"
          >
            <span class="figures text-[13px] text-copper">{{ when(one, live) }}</span>
            {{ one.text }}
          </button>
        </li>
      </ul>
    </component>
  </section>
</template>
