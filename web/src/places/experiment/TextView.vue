<script setup lang="ts">
import { useTyped } from '@/ui/typed'

/** The document as it is written. */
const source = defineModel<string>({ required: true })
const emit = defineEmits<{ done: [] }>()
defineProps<{ fixed?: boolean }>()
const { text, entered, left, typed, changed } = useTyped(
  () => source.value,
  (given) => {
    source.value = given
    emit('done')
  },
)
const textOf = (event: Event) => (event.target as HTMLTextAreaElement).value
</script>

<template>
  <label class="block min-w-0">
    <span class="label">Plan in YAML or JSON, as the command line runs it</span>
    <textarea
      :value="text"
      spellcheck="false"
      :disabled="fixed"
      class="figures block h-[75vh] w-full resize-y rounded border border-rule bg-card p-3 text-[13.5px] leading-normal whitespace-pre"
      data-testid="source"
      @focus="entered"
      @blur="left"
      @input="typed(textOf($event))"
      @change="changed(textOf($event))"
    />
  </label>
</template>
