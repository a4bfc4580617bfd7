<script setup lang="ts">
import { computed } from 'vue'
import type { Schemas } from '@/api/client'

/** What a run was against its experiment's baseline, in a word. */
const props = defineProps<{ run: number; against: Schemas['Judged'] }>()
const WORDS: Record<string, [glyph: string, text: string]> = {
  slower: ['✕', 'slower than'],
  faster: ['○', 'faster than'],
  'no difference': ['–', 'no difference from'],
  inconclusive: ['?', 'inconclusive against'],
  'not comparable': ['?', 'not comparable with'],
}
const found = computed(() => WORDS[props.against.verdict] ?? ['?', 'against'])
</script>

<template>
  <RouterLink
    :to="`/runs/${run}/against/${against.run}`"
    class="block"
    :title="against.sentence.replaceAll('`', '')"
  >
    <span aria-hidden="true">{{ found[0] }}</span> {{ found[1] }} its baseline, run
    {{ against.run }}
  </RouterLink>
</template>
