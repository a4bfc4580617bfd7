<script setup lang="ts">
import { useId } from 'vue'
import type { Fault } from '@/api/problem'
import { useTyped } from './typed'

/** A labelled input that says what is wrong with it. In a document its value is taken over while one
 * types, at each pause; elsewhere when one leaves it. */
const props = defineProps<{
  label: string
  hint?: string
  fault?: Fault
  type?: 'text' | 'number' | 'password'
  placeholder?: string
  mono?: boolean
  lines?: number
  disabled?: boolean
  labelHidden?: boolean
}>()
const value = defineModel<string | number | undefined>()
const emit = defineEmits<{ done: [] }>()
const id = useId()
const { text, entered, left, typed, changed } = useTyped(
  () => (value.value === undefined ? '' : String(value.value)),
  (given) => {
    const number = props.type === 'number' && !props.lines
    value.value = number ? (given === '' ? undefined : Number(given)) : given
    emit('done')
  },
)
const textOf = (event: Event) => (event.target as HTMLInputElement).value

function enter(event: FocusEvent) {
  entered()
  const field = event.target as HTMLInputElement
  if (field.type === 'password') field.select()
}
</script>

<template>
  <div class="min-w-0">
    <label :for="id" class="label block" :class="{ 'sr-only': labelHidden }">{{ label }}</label>
    <textarea
      v-if="lines"
      :id="id"
      :value="text"
      :rows="lines"
      :placeholder="placeholder"
      :disabled="disabled"
      :aria-invalid="!!fault"
      :aria-describedby="`${id}-about`"
      class="field"
      :class="{ figures: mono, '!border-brick': fault }"
      @focus="enter"
      @blur="left"
      @input="typed(textOf($event))"
      @change="changed(textOf($event))"
    />
    <input
      v-else
      :id="id"
      :value="text"
      :type="type ?? 'text'"
      :step="type === 'number' ? 'any' : undefined"
      :placeholder="placeholder"
      :disabled="disabled"
      :aria-invalid="!!fault"
      :aria-describedby="`${id}-about`"
      autocomplete="off"
      class="field"
      :class="{ figures: mono, '!border-brick': fault }"
      @focus="enter"
      @blur="left"
      @input="typed(textOf($event))"
      @change="changed(textOf($event))"
    />
    <p :id="`${id}-about`" class="text-[13px] break-words">
      <span v-if="fault" class="text-brick" role="alert"
        >✕ {{ fault.message }} {{ fault.mend }}</span
      >
      <span v-else-if="hint" class="text-ink-2">{{ hint }}</span>
    </p>
  </div>
</template>
