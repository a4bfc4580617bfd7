<script setup lang="ts">
import { computed } from 'vue'

/** A sentence of the findings; names of components stand between backticks. A number keeps its short unit beside it. */
const props = defineProps<{ text: string }>()
const WITH_UNIT = /(\d[\d.]* (?:%|ms|s)(?!\w))/
const parts = computed(() =>
  props.text.split('`').map((text, i) => ({ name: i % 2 > 0, pieces: text.split(WITH_UNIT) })),
)
</script>

<template>
  <span class="break-words">
    <template v-for="(part, i) in parts" :key="i">
      <code v-if="part.name" class="font-mono text-[0.93em]">{{ part.pieces.join('') }}</code>
      <template v-for="(piece, k) in part.pieces" v-else :key="k">
        <span v-if="k % 2" class="whitespace-nowrap">{{ piece }}</span>
        <template v-else>{{ piece }}</template>
      </template>
    </template>
  </span>
</template>
