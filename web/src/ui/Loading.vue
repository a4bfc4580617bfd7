<script setup lang="ts">
defineProps<{ what: string }>()
</script>

<template>
  <p class="py-8 text-ink-2" role="status">Reading {{ what }} …</p>
</template>
