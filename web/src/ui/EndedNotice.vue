<script setup lang="ts">
import { computed } from 'vue'
import { useRun } from '@/api/queries'
import Action from './Action.vue'
import Sentence from './Sentence.vue'

/** Says on every page that a run has ended, and what it was against its baseline. */
const props = defineProps<{ id: number }>()
defineEmits<{ away: [] }>()
const run = useRun(() => props.id)
const told = computed(() => run.data.value)
</script>

<template>
  <div v-if="told?.ended" role="status" class="border-b border-rule bg-card" data-testid="ended">
    <div class="mx-auto flex max-w-[1440px] flex-wrap items-center gap-x-4 gap-y-2 px-5 py-2">
      <p class="min-w-0 flex-1 break-words">
        <RouterLink :to="`/runs/${id}`">Run {{ id }}</RouterLink> of {{ told.experiment }} has ended
        ({{ told.state }}). <Sentence :text="told.verdict || told.cause" />
        <span v-if="told.against" class="block">
          Against its baseline, run {{ told.against.run }}:
          <Sentence :text="told.against.sentence" />
        </span>
      </p>
      <Action @click="$emit('away')">Put away</Action>
    </div>
  </div>
</template>
