<script setup lang="ts">
import { useId } from 'vue'

/** A labelled choice of one among a few. */
defineProps<{
  label: string
  options: { value: string; text: string }[]
  labelHidden?: boolean
  disabled?: boolean
}>()
const value = defineModel<string>()
const emit = defineEmits<{ done: [] }>()
const id = useId()

function take(event: Event) {
  value.value = (event.target as HTMLSelectElement).value
  emit('done')
}
</script>

<template>
  <div class="min-w-0">
    <label :for="id" class="label block" :class="{ 'sr-only': labelHidden }">{{ label }}</label>
    <select :id="id" :value="value" :disabled="disabled" class="field" @change="take">
      <option v-for="option in options" :key="option.value" :value="option.value">
        {{ option.text }}
      </option>
    </select>
  </div>
</template>
