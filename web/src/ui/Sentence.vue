<script setup lang="ts">
import { computed } from 'vue'

/** A sentence of the findings; names of components stand between backticks. */
const props = defineProps<{ text: string }>()
const parts = computed(() => props.text.split('`'))
</script>

<template>
  <span class="break-words">
    <template v-for="(part, i) in parts" :key="i">
      <code v-if="i % 2" class="font-mono text-[0.93em]">{{ part }}</code>
      <template v-else>{{ part }}</template>
    </template>
  </span>
</template>
