<script setup lang="ts">
import Action from '@/ui/Action.vue'
import Choice from '@/ui/Choice.vue'
import Field from '@/ui/Field.vue'
import { useSharedJourney, type CheckDoc } from './document'
import { checkKind, newCheck, type CheckKind } from './texts'

/** What an answer must fulfil. */
defineProps<{ path: string }>()
const emit = defineEmits<{ done: [] }>()
const checks = defineModel<CheckDoc[] | undefined>()
const { faultBelow } = useSharedJourney()

const kinds: { value: CheckKind; text: string }[] = [
  { value: 'contains', text: 'body contains' },
  { value: 'lacks', text: 'body does not contain' },
  { value: 'matches', text: 'body matches' },
  { value: 'json equals', text: 'place in JSON equals' },
  { value: 'json exists', text: 'place in JSON exists' },
  { value: 'header equals', text: 'header equals' },
  { value: 'header exists', text: 'header exists' },
  { value: 'at_least_bytes', text: 'at least so many bytes' },
  { value: 'at_most_bytes', text: 'at most so many bytes' },
  { value: 'within', text: 'answers within' },
]
const plain = ['contains', 'lacks', 'matches', 'within'] as const
const sizes = ['at_least_bytes', 'at_most_bytes'] as const

function replace(k: number, kind: string | undefined) {
  if (checks.value) checks.value[k] = newCheck(kind as CheckKind)
  emit('done')
}
function remove(k: number) {
  checks.value?.splice(k, 1)
  emit('done')
}
</script>

<template>
  <section class="space-y-2" aria-label="Checks">
    <h3 class="font-semibold">Check the answer</h3>
    <div
      v-for="(check, k) in checks ?? []"
      :key="k"
      class="grid gap-3 sm:grid-cols-[1.2fr_1fr_1fr_auto]"
      data-testid="check"
    >
      <Choice
        label="Check"
        :model-value="checkKind(check)"
        :options="kinds"
        @update:model-value="replace(k, $event)"
      />
      <template v-for="kind in plain" :key="kind">
        <Field
          v-if="checkKind(check) === kind"
          v-model="check[kind]"
          class="sm:col-span-2"
          :label="kind === 'within' ? 'Time' : 'Text'"
          mono
          :fault="faultBelow(`${path}[${k}]`)"
          @done="emit('done')"
        />
      </template>
      <template v-for="kind in sizes" :key="kind">
        <Field
          v-if="checkKind(check) === kind"
          v-model="check[kind]"
          class="sm:col-span-2"
          label="Bytes"
          type="number"
          :fault="faultBelow(`${path}[${k}]`)"
          @done="emit('done')"
        />
      </template>
      <Field
        v-if="check.json !== undefined"
        v-model="check.json"
        label="Place"
        mono
        :fault="faultBelow(`${path}[${k}]`)"
        @done="emit('done')"
      />
      <Field
        v-if="check.header !== undefined"
        v-model="check.header"
        label="Header"
        mono
        :fault="faultBelow(`${path}[${k}]`)"
        @done="emit('done')"
      />
      <Field
        v-if="check.equals !== undefined"
        :model-value="String(check.equals)"
        label="Value"
        mono
        @update:model-value="check.equals = String($event ?? '')"
        @done="emit('done')"
      />
      <span v-else-if="check.exists !== undefined" />
      <div class="self-end"><Action @click="remove(k)">Remove</Action></div>
    </div>
    <Action @click="((checks = [...(checks ?? []), newCheck('contains')]), emit('done'))"
      >Add a check</Action
    >
  </section>
</template>
