<script setup lang="ts">
import type { Fault } from '@/api/problem'
import Action from './Action.vue'
import Problem from './Problem.vue'
import type { Saving } from './draft'

/** Whether a document is saved, what is wrong with it, and the way back. */
defineProps<{
  saving: Saving
  faults: Fault[]
  error: unknown
  canUndo: boolean
  canRedo: boolean
}>()
defineEmits<{ undo: []; redo: []; again: [] }>()
</script>

<template>
  <section class="space-y-2" aria-label="Document">
    <p data-testid="saving" role="status">
      <span v-if="saving === 'saving'" class="text-ink-2">Saving …</span>
      <span v-else-if="saving === 'saved'" class="text-moss">○ Saved</span>
      <span v-else class="text-brick">✕ Not saved yet</span>
    </p>
    <Problem v-if="saving === 'not saved' && !faults.length" :error="error">
      <Action class="mt-2" @click="$emit('again')">Try again</Action>
    </Problem>
    <ul v-if="faults.length" class="space-y-1 border-l-2 border-brick pl-3 text-[13.5px]">
      <li v-for="fault in faults" :key="fault.path + fault.message" class="break-words">
        <code class="figures">{{ fault.path }}</code>: {{ fault.message }} {{ fault.mend }}
      </li>
    </ul>
    <div class="flex flex-wrap gap-2">
      <Action :disabled="!canUndo" @click="$emit('undo')">Undo</Action>
      <Action :disabled="!canRedo" @click="$emit('redo')">Redo</Action>
    </div>
  </section>
</template>
