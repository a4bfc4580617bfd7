<script setup lang="ts">
import Action from '@/ui/Action.vue'
import Choice from '@/ui/Choice.vue'
import Field from '@/ui/Field.vue'
import { useSharedJourney, type KeepDoc } from './document'
import { keepSource, type KeepSource } from './texts'

/** Values a step keeps for later requests. */
defineProps<{ path: string }>()
const emit = defineEmits<{ done: [] }>()
const keeps = defineModel<KeepDoc[] | undefined>()
const { faultBelow } = useSharedJourney()

const sources: { value: KeepSource; text: string }[] = [
  { value: 'field', text: 'form field' },
  { value: 'json', text: 'place in JSON' },
  { value: 'regex', text: 'regular expression' },
  { value: 'header', text: 'header' },
  { value: 'cookie', text: 'cookie' },
]
const examples: Record<KeepSource, string> = {
  field: 'form_token',
  json: '$.ticket.number',
  regex: 'Ticket (T-\\d+)',
  header: 'Location',
  cookie: 'session',
}

function add() {
  const number = (keeps.value?.length ?? 0) + 1
  keeps.value = [...(keeps.value ?? []), { name: `value_${number}`, field: 'form_token' }]
}
function choose(k: number, source: string | undefined) {
  const keep = keeps.value?.[k]
  if (!keep) return
  keeps.value![k] = { name: keep.name, [source as KeepSource]: examples[source as KeepSource] }
  emit('done')
}
function remove(k: number) {
  keeps.value?.splice(k, 1)
  emit('done')
}
</script>

<template>
  <section class="space-y-2" aria-label="Kept values">
    <h3 class="font-semibold">Keep from the answer</h3>
    <div
      v-for="(keep, k) in keeps ?? []"
      :key="k"
      class="grid gap-3 sm:grid-cols-[1fr_1fr_1.6fr_auto]"
      data-testid="keep"
    >
      <Field
        v-model="keep.name"
        :label="`Used later as {{${keep.name}}}`"
        mono
        :fault="faultBelow(`${path}[${k}]`)"
        @done="emit('done')"
      />
      <Choice
        label="From"
        :model-value="keepSource(keep)"
        :options="sources"
        @update:model-value="choose(k, $event)"
      />
      <Field
        label="Which"
        mono
        :model-value="keep[keepSource(keep)]"
        @update:model-value="keep[keepSource(keep)] = String($event ?? '')"
        @done="emit('done')"
      />
      <div class="self-end"><Action @click="remove(k)">Remove</Action></div>
    </div>
    <Action @click="(add(), emit('done'))">Keep a value</Action>
  </section>
</template>
