<script setup lang="ts">
/** The head of a column by which a table can be sorted. */
defineProps<{ head: string; sorted: 'ascending' | 'descending' | undefined }>()
defineEmits<{ sort: [] }>()
</script>

<template>
  <th :aria-sort="sorted">
    <button type="button" class="whitespace-nowrap hover:text-ink" @click="$emit('sort')">
      {{ head
      }}<span v-if="sorted" aria-hidden="true">{{ sorted === 'descending' ? ' ↓' : ' ↑' }}</span>
    </button>
  </th>
</template>
