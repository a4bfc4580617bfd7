<script setup lang="ts">
import { ref, watch } from 'vue'

/** A value in the sentence that asks for requests: taken when it is entered or left. What somebody is typing stays
 * theirs while answers come in; afterwards it is as the question says it. */
const props = defineProps<{ label: string; value: string; placeholder?: string }>()
const emit = defineEmits<{ take: [text: string] }>()
const text = ref(props.value)
const typing = ref(false)
watch(
  () => props.value,
  (now) => {
    if (!typing.value) text.value = now
  },
)
const textOf = (event: Event) => (event.target as HTMLInputElement).value

function typed(event: Event) {
  typing.value = true
  text.value = textOf(event)
}
function entered(event: Event) {
  typing.value = false
  emit('take', textOf(event).trim())
}
function left() {
  typing.value = false
  text.value = props.value
}
</script>

<template>
  <input
    :value="text"
    :aria-label="label"
    :placeholder="placeholder"
    autocomplete="off"
    class="figures rounded-sm border-b border-dashed border-ink-2 bg-card px-1 text-center"
    @input="typed"
    @change="entered"
    @blur="left"
  />
</template>
