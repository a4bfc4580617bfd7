<script setup lang="ts">
import { computed, ref } from 'vue'
import { useRole } from '@/ui/role'
import type { Schemas } from '@/api/client'
import { useChangeKeeping, useKeeping } from '@/api/systems'
import Choice from '@/ui/Choice.vue'
import Problem from '@/ui/Problem.vue'
import { counted } from '@/ui/format'

/** How long what is kept of this system's runs. */
const props = defineProps<{ id: number }>()
type Days = keyof Schemas['Keeping']

const { may } = useRole()
const keeping = useKeeping(() => props.id)
const change = useChangeKeeping(props.id)
/** So often was a choice refused: the lists are drawn anew with what is kept. */
const refused = ref(0)
const OFFERED: [number | null, string][] = [
  [7, '7 days'],
  [30, '30 days'],
  [90, '90 days'],
  [365, 'a year'],
  [730, 'two years'],
  [null, 'always'],
]
const rows: { days: Days; label: string }[] = [
  { days: 'requests_days', label: 'Requests' },
  { days: 'seconds_days', label: 'Seconds and metrics' },
  { days: 'runs_days', label: 'Runs and their findings' },
]

function options(days: Days) {
  const now = keeping.data.value?.[days] ?? null
  const known = OFFERED.some(([value]) => value === now)
  const told: [number | null, string][] = known ? OFFERED : [[now, `${now} days`], ...OFFERED]
  return told.map(([value, text]) => ({ value: String(value ?? ''), text }))
}
function set(days: Days, value: string) {
  const { requests_days, seconds_days, runs_days } = keeping.data.value ?? {}
  change.mutate(
    { requests_days, seconds_days, runs_days, [days]: value ? Number(value) : null },
    { onError: () => (refused.value += 1) },
  )
}
const going = computed(() => {
  const { requests, seconds, runs } = keeping.data.value?.going ?? {
    requests: 0,
    seconds: 0,
    runs: 0,
  }
  const told = [
    requests && `the requests of ${counted(requests, 'run')}`,
    seconds && `the seconds of ${counted(seconds, 'run')}`,
    runs && `${counted(runs, 'whole run')}, which can be had back for a day`,
  ].filter(Boolean)
  return told.join(', ')
})
</script>

<template>
  <section class="space-y-2 border-t border-rule pt-3" aria-label="How long runs are kept">
    <h2>Kept after a run’s end</h2>
    <Problem v-if="keeping.isError.value" :error="keeping.error.value" />
    <template v-if="keeping.data.value">
      <Choice
        v-for="{ days, label } in rows"
        :key="`${days} ${refused}`"
        :label="label"
        :options="options(days)"
        :model-value="String(keeping.data.value[days] ?? '')"
        :disabled="change.isPending.value || !may('administrator')"
        @update:model-value="set(days, $event ?? '')"
      />
      <Problem v-if="change.isError.value" :error="change.error.value" />
      <p v-if="going" class="border-l-2 border-ochre pl-3" role="status">
        Within the hour go: {{ going }}. Choose a longer time to keep them.
      </p>
      <p class="label">A run’s own page can keep it always.</p>
    </template>
  </section>
</template>
