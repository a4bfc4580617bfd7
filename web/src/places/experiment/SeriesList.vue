<script setup lang="ts">
import { useSeriesOf } from '@/api/series'
import RunState from '@/ui/RunState.vue'
import { when } from '@/ui/format'

/** How often an experiment's candidates or values took turns. */
const props = defineProps<{ id: number }>()
const series = useSeriesOf(() => props.id)
</script>

<template>
  <section v-if="series.data.value?.length" aria-label="In turns">
    <h2 class="mb-1">In turns</h2>
    <ul class="space-y-1">
      <li v-for="one in series.data.value" :key="one.id" class="break-words">
        <RouterLink :to="`/series/${one.id}`">{{ when(one.begun_at) }}</RouterLink>
        <RunState
          class="ml-2"
          :state="one.state === 'going' ? 'running' : one.state"
          :seeded="one.seeded"
        />
        <span class="label ml-2">{{ one.over }} of {{ one.turns }} turns</span>
      </li>
    </ul>
  </section>
</template>
