<script setup lang="ts">
import { computed } from 'vue'
import type { Schemas } from '@/api/client'
import RunState from '@/ui/RunState.vue'
import { when } from '@/ui/format'

/** Which run this is, of what, and what must be known before anything of it is believed. */
const props = defineProps<{ run: Schemas['RunDetail'] }>()
/** What a rehearsal was played against, as it tells of its beginning. */
const playedAgainst = computed(
  () => props.run.transitions.find((one) => one.state === 'running')?.cause ?? 'It is a rehearsal.',
)
</script>

<template>
  <header class="space-y-1">
    <h1 class="break-words">
      <RouterLink :to="`/experiments/${run.experiment_id}`" class="text-ink">{{
        run.experiment
      }}</RouterLink>
    </h1>
    <p class="flex flex-wrap items-baseline gap-x-3">
      <span>Run {{ run.id }}</span>
      <RunState
        :state="run.state"
        :simulated="run.simulated"
        :seeded="run.seeded"
        data-testid="run-state"
      />
      <span class="label">{{ when(run.queued_at) }}</span>
    </p>
    <p v-if="run.turn" class="break-words">
      The turn of {{ run.turn
      }}<template v-if="run.series_id"
        >: <RouterLink :to="`/series/${run.series_id}`">all turns</RouterLink></template
      >.
    </p>
    <slot />
  </header>

  <p v-if="run.seeded" class="border-l-2 border-ochre pl-3" role="note">
    Made by the practice twin in virtual time, before it came with the product: an example to read,
    of a season that never was.
  </p>
  <p v-else-if="run.simulated" class="border-l-2 border-ochre pl-3" role="note">
    {{ playedAgainst }} Nothing was sent and nothing measured: it shows what a run would look like
    and how surely it could tell.
    <RouterLink :to="`/experiments/${run.experiment_id}`">Start the experiment</RouterLink>
    for a real one.
  </p>
</template>
