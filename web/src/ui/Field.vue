<script setup lang="ts">
import { useDebounceFn } from '@vueuse/core'
import { onBeforeUnmount, ref, useId, watch } from 'vue'
import type { Fault } from '@/api/problem'
import { useTyping } from './draft'

/** A labelled input that says what is wrong with it. In a document its value is taken over while one
 * types, at each pause; elsewhere when one leaves it. */
const PAUSE_MS = 600
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
const typing = useTyping()

// While somebody is in the field its text is theirs: what the document makes of it is shown after.
const text = ref(shown())
const inside = ref(false)
let stay = {}
let pending: HTMLInputElement | HTMLTextAreaElement | null = null

function shown(): string {
  return value.value === undefined ? '' : String(value.value)
}
watch(value, () => {
  if (!inside.value) text.value = shown()
})

function entered(event: FocusEvent) {
  inside.value = true
  stay = {}
  const field = event.target as HTMLInputElement
  if (field.type === 'password') field.select()
}
function left() {
  inside.value = false
  text.value = shown()
  typing?.left()
}
function take(field: HTMLInputElement | HTMLTextAreaElement) {
  pending = null
  const given =
    field.type === 'number' ? (field.value === '' ? undefined : Number(field.value)) : field.value
  value.value = given
  emit('done')
  typing?.settled(stay)
}
const afterPause = useDebounceFn(() => pending && take(pending), PAUSE_MS)

function typed(event: Event) {
  const field = event.target as HTMLInputElement
  text.value = field.value
  if (!typing) return
  pending = field
  typing.begun(stay, () => pending && take(pending))
  void afterPause()
}
function changed(event: Event) {
  // Taken over already at the last pause: leaving the field changes nothing.
  if (typing && !pending) return
  take(event.target as HTMLInputElement)
}
onBeforeUnmount(() => pending && take(pending))
</script>

<template>
  <div class="min-w-0">
    <label :for="id" class="label block">{{ label }}</label>
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
      @focus="entered"
      @blur="left"
      @input="typed"
      @change="changed"
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
      @focus="entered"
      @blur="left"
      @input="typed"
      @change="changed"
    />
    <p :id="`${id}-about`" class="text-[13px] break-words">
      <span v-if="fault" class="text-brick" role="alert"
        >✕ {{ fault.message }} {{ fault.mend }}</span
      >
      <span v-else-if="hint" class="text-ink-2">{{ hint }}</span>
    </p>
  </div>
</template>
