<script setup lang="ts">
import { useId } from 'vue'
import type { Fault } from '@/api/problem'

/** A labelled input that says what is wrong with it. Its value is taken over when one leaves it. */
defineProps<{
  label: string
  hint?: string
  fault?: Fault
  type?: 'text' | 'number' | 'password'
  placeholder?: string
  mono?: boolean
  lines?: number
  disabled?: boolean
}>()
const value = defineModel<string | number | undefined>()
const emit = defineEmits<{ done: [] }>()
const id = useId()

function take(event: Event) {
  const { value: text, type } = event.target as HTMLInputElement
  value.value = type === 'number' ? (text === '' ? undefined : Number(text)) : text
  emit('done')
}
</script>

<template>
  <div class="min-w-0">
    <label :for="id" class="label block">{{ label }}</label>
    <textarea
      v-if="lines"
      :id="id"
      :value="value"
      :rows="lines"
      :placeholder="placeholder"
      :disabled="disabled"
      :aria-invalid="!!fault"
      :aria-describedby="`${id}-about`"
      class="field"
      :class="{ figures: mono, '!border-brick': fault }"
      @change="take"
    />
    <input
      v-else
      :id="id"
      :value="value"
      :type="type ?? 'text'"
      :step="type === 'number' ? 'any' : undefined"
      :placeholder="placeholder"
      :disabled="disabled"
      :aria-invalid="!!fault"
      :aria-describedby="`${id}-about`"
      autocomplete="off"
      class="field"
      :class="{ figures: mono, '!border-brick': fault }"
      @change="take"
    />
    <p :id="`${id}-about`" class="text-[13px] break-words">
      <span v-if="fault" class="text-brick" role="alert"
        >✕ {{ fault.message }} {{ fault.mend }}</span
      >
      <span v-else-if="hint" class="text-ink-2">{{ hint }}</span>
    </p>
  </div>
</template>
