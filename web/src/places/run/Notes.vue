<script setup lang="ts">
import type { Schemas } from '@/api/client'
import Grade from '@/ui/Grade.vue'
import Sentence from '@/ui/Sentence.vue'
import HowComputed from './HowComputed.vue'
import Suspects from './Suspects.vue'

/** Sentences beside the plate, each tied to the piece of it that proves it. While a run goes on those that a further
 * level may still change stand in pencil. */
defineProps<{
  notes: (Schemas['Note'] & { settled?: boolean })[]
  /** The run whose findings they are, once it has ended. */
  run?: number
}>()
defineEmits<{ show: [Schemas['Evidence']]; hide: [] }>()
/** Conclusions whose formula can be opened. */
const EXPLAINED = new Set([
  'comfort',
  'headroom',
  'saturation',
  'limiting',
  'breaking',
  'laws',
  'measuring',
])
const pencil = (note: { settled?: boolean }) => note.settled === false
</script>

<template>
  <section class="space-y-4">
    <article
      v-for="note in notes"
      :key="note.kind"
      tabindex="0"
      class="border-t pt-2"
      :class="pencil(note) ? 'border-dotted border-ink-2 text-ink-2' : 'border-rule'"
      :data-note="note.kind"
      @mouseenter="$emit('show', note.evidence)"
      @mouseleave="$emit('hide')"
      @focus="$emit('show', note.evidence)"
      @blur="$emit('hide')"
    >
      <h2 class="flex gap-2 text-[15.5px]">
        <Grade :grade="note.grade" wordless />
        <span class="min-w-0 break-words"><Sentence :text="note.title" /></span>
      </h2>
      <p class="break-words"><Sentence :text="note.text" /></p>
      <details v-if="note.details.length" class="mt-1 text-[13.5px]">
        <summary class="label cursor-pointer">Evidence</summary>
        <ul class="mt-1 space-y-0.5">
          <li v-for="line in note.details" :key="line" class="break-words">
            <Sentence :text="line" />
          </li>
        </ul>
      </details>
      <Suspects
        v-if="run !== undefined && note.kind === 'limiting'"
        :run="run"
        :note="note"
        @show="$emit('show', $event)"
      />
      <HowComputed
        v-if="run !== undefined && EXPLAINED.has(note.kind)"
        :run="run"
        :kind="note.kind"
      />
    </article>
  </section>
</template>
