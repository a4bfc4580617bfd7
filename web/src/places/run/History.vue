<script setup lang="ts">
import { computed } from 'vue'
import type { Schemas } from '@/api/client'
import RunState from '@/ui/RunState.vue'
import { storyOf } from './told'

/** What happened to a run, and what became of its generators. */
const props = defineProps<{ run: Schemas['RunDetail'] }>()
const story = computed(() => storyOf(props.run))
</script>

<template>
  <details class="mt-2">
    <summary class="label cursor-pointer">History of this run</summary>
    <ul class="mt-2 space-y-1">
      <li v-for="one in story" :key="one.at + one.cause" class="break-words">
        <RunState v-if="one.state" :state="one.state" />
        <span class="label mx-1">{{ new Date(one.at).toLocaleTimeString() }}</span>
        {{ one.cause }}
        <span v-if="one.who && one.who !== 'the plan'" class="label">{{ one.who }}</span>
      </li>
    </ul>
    <p v-for="one in run.generators" :key="one.name" class="label mt-1 break-words">
      Generator {{ one.name }}<template v-if="one.label"> on {{ one.label }}</template
      >: {{ one.state }}{{ one.reason ? `, ${one.reason}` : '' }}
    </p>
  </details>
</template>
