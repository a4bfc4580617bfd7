<script setup lang="ts">
import { useLongerLevels } from '@/api/queries'
import Action from '@/ui/Action.vue'
import JobProgress from '@/ui/JobProgress.vue'
import Problem from '@/ui/Problem.vue'

/** What a rehearsal would know more surely with everything in its load twice as long: played when somebody asks. */
const props = defineProps<{ run: number }>()
const longer = useLongerLevels(props.run)
</script>

<template>
  <section aria-label="Longer levels" data-testid="longer">
    <p v-if="longer.data.value" class="break-words" role="status">{{ longer.data.value.text }}</p>
    <JobProgress :progress="longer.progress.value" @cancel="longer.cancel" />
    <Action
      v-if="!longer.data.value && !longer.progress.value"
      needs="planner"
      :busy="longer.isPending.value"
      @click="longer.mutate(undefined)"
      >Would longer levels tell more?</Action
    >
    <Problem v-if="longer.isError.value" :error="longer.error.value" />
  </section>
</template>
