<script setup lang="ts">
import { computed } from 'vue'
import { useRouter } from 'vue-router'
import { useRuns, type Pooled } from '@/api/queries'
import type { Schemas } from '@/api/client'
import Choice from '@/ui/Choice.vue'
import { when } from '@/ui/format'

/** Further runs on one side of a comparison: what a difference is judged by then is the spread between runs. */
const props = defineProps<{
  run: Schemas['RunShown']
  others: Schemas['RunShown'][]
  taken: number[]
  side: keyof Pooled
  pooled: Pooled
}>()
const MOST = 10
const router = useRouter()
const runs = useRuns(() => ({ experiment: props.run.experiment_id }))
const further = computed(() =>
  (runs.data.value?.runs ?? [])
    .filter((one) => one.ended && one.verdict && !props.taken.includes(one.id))
    .map((one) => ({ value: String(one.id), text: `run ${one.id}, ${when(one.queued_at)}` })),
)
function go(own: number[]) {
  const told = { ...props.pooled, [props.side]: own }
  const query = Object.fromEntries(
    Object.entries(told).flatMap(([side, ids]) => (ids.length ? [[side, ids.join(',')]] : [])),
  )
  void router.replace({ query })
}
</script>

<template>
  <ul v-if="others.length" class="mt-1">
    <li v-for="one in others" :key="one.id">
      and <RouterLink :to="`/runs/${one.id}`">run {{ one.id }}</RouterLink>
      <span class="label ml-2">{{ when(one.queued_at) }}</span>
      <button
        type="button"
        class="label ml-2 hover:text-ink"
        :aria-label="`Without run ${one.id}`"
        @click="go(pooled[side].filter((id) => id !== one.id))"
      >
        ✕
      </button>
    </li>
  </ul>
  <Choice
    v-if="further.length && others.length + 1 < MOST"
    class="mt-1"
    :label="`Together with run ${run.id}`"
    :options="[{ value: '', text: 'another run …' }, ...further]"
    model-value=""
    @update:model-value="$event && go([...pooled[side], Number($event)])"
  />
</template>
