<script setup lang="ts">
/** Below a list of documents: the way to those put out of the way, and back. */
defineProps<{ kind: string }>()
const archived = defineModel<boolean>('archived', { required: true })
</script>

<template>
  <p class="mt-4">
    <button type="button" class="label hover:text-ink" @click="archived = !archived">
      {{ archived ? `Back to the ${kind}s in use` : `Show archived ${kind}s` }}
    </button>
  </p>
</template>
