<script setup lang="ts">
import type { Fault, Problem as Told } from '@/api/problem'
import Action from './Action.vue'
import Problem from './Problem.vue'
import type { Saving } from './draft'
import type { Clash } from './merge'

/** Whether a document is saved, what is wrong with it, and the way back. */
defineProps<{
  saving: Saving
  faults: Fault[]
  error: unknown
  outdated: Told | null
  clashes: Clash[]
  canUndo: boolean
  canRedo: boolean
}>()
defineEmits<{ undo: []; redo: []; again: []; resolve: [choice: 'both' | 'mine' | 'theirs'] }>()

function short(value: unknown): string {
  if (value === undefined) return 'nothing'
  const text = typeof value === 'string' ? value : JSON.stringify(value)
  return text.length > 60 ? `${text.slice(0, 57)}…` : text
}
</script>

<template>
  <section class="space-y-2" aria-label="Document">
    <p data-testid="saving" role="status">
      <span v-if="saving === 'saving'" class="text-ink-2">Saving …</span>
      <span v-else-if="saving === 'saved'" class="text-moss">○ Saved</span>
      <span v-else-if="saving === 'typing'" class="text-ink-2">◐ Typing, not saved yet</span>
      <span v-else class="text-brick">✕ Not saved yet</span>
    </p>
    <div v-if="outdated" class="space-y-2 border-l-2 border-ochre pl-3 text-[13.5px]" role="alert">
      <p class="break-words">{{ outdated.detail }}</p>
      <p v-if="!clashes.length">Your changes and theirs are in different places.</p>
      <ul v-else class="space-y-1">
        <li v-for="clash in clashes" :key="clash.path" class="break-words">
          Both changed <code class="figures">{{ clash.path || 'all of it' }}</code>: you to
          <code class="figures">{{ short(clash.mine) }}</code>, they to
          <code class="figures">{{ short(clash.theirs) }}</code>
        </li>
      </ul>
      <div class="flex flex-wrap gap-2">
        <Action kind="primary" @click="$emit('resolve', 'both')">
          {{ clashes.length ? 'Both, yours where they clash' : 'Put both together' }}
        </Action>
        <Action @click="$emit('resolve', 'theirs')">Theirs only</Action>
        <Action @click="$emit('resolve', 'mine')">Yours only</Action>
      </div>
    </div>
    <Problem v-else-if="saving === 'not saved' && !faults.length" :error="error">
      <Action class="mt-2" @click="$emit('again')">Try again</Action>
    </Problem>
    <ul v-if="faults.length" class="space-y-1 border-l-2 border-brick pl-3 text-[13.5px]">
      <li v-for="fault in faults" :key="fault.path + fault.message" class="break-words">
        <code class="figures">{{ fault.path }}</code>: {{ fault.message }} {{ fault.mend }}
      </li>
    </ul>
    <div class="flex flex-wrap gap-2">
      <Action needs="planner" :disabled="!canUndo" @click="$emit('undo')">Undo</Action>
      <Action needs="planner" :disabled="!canRedo" @click="$emit('redo')">Redo</Action>
    </div>
  </section>
</template>
