<script setup lang="ts">
import { computed } from 'vue'
import type { Shown } from '@/api/livePlate'
import Action from '@/ui/Action.vue'
import Choice from '@/ui/Choice.vue'
import { clock } from '@/ui/format'

/** Which stretch of the run is looked at, and whether the picture follows what is measured. */
defineProps<{ live: boolean }>()
const shown = defineModel<Shown>({ required: true })
const frozen = defineModel<boolean>('frozen', { required: true })

const LASTS = [15, 5, 1]
const options = computed(() => [
  { value: '', text: 'Whole run' },
  ...LASTS.map((n) => ({ value: String(n * 60), text: `Last ${n} min` })),
  ...(shown.value.until_s
    ? [
        {
          value: 'piece',
          text: `${clock(shown.value.from_s)} to ${clock(shown.value.until_s)}`,
        },
      ]
    : []),
])
const chosen = computed({
  get: () => (shown.value.until_s ? 'piece' : shown.value.last_s ? String(shown.value.last_s) : ''),
  set: (value: string) => {
    if (value !== 'piece')
      shown.value = { ...shown.value, from_s: 0, until_s: 0, last_s: Number(value) }
  },
})
</script>

<template>
  <Choice
    v-model="chosen"
    class="w-32"
    label="Stretch of the run"
    label-hidden
    :options="options"
    data-testid="window"
  />
  <Action v-if="live" :aria-pressed="frozen" @click="frozen = !frozen">
    {{ frozen ? 'Follow again' : 'Freeze' }}
  </Action>
</template>
