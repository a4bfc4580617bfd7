<script setup lang="ts">
import { computed } from 'vue'
import type { Shown } from '@/api/livePlate'
import type { Plate } from '@/plates/view'
import Choice from '@/ui/Choice.vue'

/** What the response row shows, and whether rows are split. */
const props = defineProps<{ plate: Plate }>()
const shown = defineModel<Shown>({ required: true })

const kind = {
  all: '',
  group: 'Group ',
  journey: 'Journey ',
  step: '',
  region: 'Region ',
} as const
const selections = computed(() => [
  { value: '', text: 'Nearest to its limit' },
  ...props.plate.selections.map(({ id, name }) => ({
    value: id,
    text: `${kind[id.split(':')[0] as keyof typeof kind] ?? ''}${name}`,
  })),
])
const instances = computed(() =>
  Math.max(1, ...props.plate.resources.map((one) => one.instance_count)),
)
const splits = computed(() => {
  const count = (what: string) =>
    props.plate.selections.filter((one) => one.id.startsWith(`${what}:`)).length
  const found = [
    { value: 'step', text: 'By step', some: count('step') },
    { value: 'journey', text: 'By journey', some: count('journey') },
    { value: 'group', text: 'By group', some: count('group') },
    { value: 'region', text: 'By region', some: count('region') },
    { value: 'instance', text: 'By instance', some: instances.value },
  ].filter((one) => one.some > 1)
  return [{ value: '', text: 'Not split' }, ...found]
})
const of = computed({
  get: () => shown.value.of,
  set: (value: string) => (shown.value = { ...shown.value, of: value }),
})
const split = computed({
  get: () => shown.value.split,
  set: (value: string) => (shown.value = { ...shown.value, split: value as Shown['split'] }),
})
</script>

<template>
  <div class="flex flex-wrap items-center gap-2">
    <Choice
      v-model="of"
      class="w-40"
      label="Response time of"
      label-hidden
      :options="selections"
      :disabled="!['', 'instance'].includes(shown.split)"
    />
    <Choice
      v-if="splits.length > 1"
      v-model="split"
      class="w-28"
      label="Rows are"
      label-hidden
      :options="splits"
    />
  </div>
</template>
