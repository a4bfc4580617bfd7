<script setup lang="ts">
import type { Progress } from '@/api/jobs'
import Action from './Action.vue'

/** How far a job is, and the way to end it. */
defineProps<{ progress: Progress | null }>()
defineEmits<{ cancel: [] }>()
</script>

<template>
  <p v-if="progress" class="flex flex-wrap items-center gap-3" role="status" data-testid="job">
    <span class="min-w-0 break-words text-ink-2">{{ progress.text }} …</span>
    <progress
      v-if="progress.total"
      class="h-2 w-32 accent-copper"
      :value="progress.done"
      :max="progress.total"
      :aria-label="`${progress.done} of ${progress.total} done`"
    />
    <span v-if="progress.total" class="label figures">
      {{ progress.done }} of {{ progress.total }}
    </span>
    <Action @click="$emit('cancel')">Cancel</Action>
  </p>
</template>
