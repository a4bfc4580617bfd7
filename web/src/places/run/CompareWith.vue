<script setup lang="ts">
import { computed } from 'vue'
import { useRouter } from 'vue-router'
import { useRuns } from '@/api/queries'
import Choice from '@/ui/Choice.vue'
import { when } from '@/ui/format'

/** The way to a comparison: which other run of the experiment this one is held against. */
const props = defineProps<{ run: number; experiment: number }>()
const router = useRouter()
const runs = useRuns(() => ({ experiment: props.experiment }))
const others = computed(() =>
  (runs.data.value?.runs ?? [])
    .filter((one) => one.id !== props.run && one.ended && one.verdict)
    .map((one) => ({
      value: String(one.id),
      text: `run ${one.id}${one.seeded ? ', by the practice twin' : one.simulated ? ', rehearsal' : ''}, ${when(one.queued_at)}`,
    })),
)
function go(other: string | undefined) {
  if (other) void router.push(`/runs/${props.run}/against/${other}`)
}
</script>

<template>
  <Choice
    v-if="others.length"
    label="Compare it with"
    :options="[{ value: '', text: 'another run of this experiment …' }, ...others]"
    model-value=""
    @update:model-value="go"
  />
</template>
