<script setup lang="ts">
import { ref } from 'vue'
import Action from './Action.vue'

/** The head of a list of documents: one from a file, a new one. */
defineProps<{ title: string; kind: string; busy: boolean; withoutImport?: boolean }>()
const emit = defineEmits<{ create: []; import: [text: string] }>()
const file = ref<HTMLInputElement | null>(null)

async function read() {
  const chosen = file.value?.files?.[0]
  if (chosen) emit('import', await chosen.text())
  if (file.value) file.value.value = ''
}
</script>

<template>
  <div class="mb-4 flex flex-wrap items-baseline gap-x-3 gap-y-2">
    <h1 class="mr-auto">{{ title }}</h1>
    <template v-if="!withoutImport">
      <input
        ref="file"
        type="file"
        accept=".yaml,.yml,.json"
        class="sr-only"
        tabindex="-1"
        :aria-label="`Document of a ${kind}`"
        @change="read"
      />
      <Action needs="planner" @click="file?.click()">From a file</Action>
    </template>
    <slot />
    <Action needs="planner" kind="primary" :busy="busy" @click="$emit('create')"
      >New {{ kind }}</Action
    >
  </div>
</template>
