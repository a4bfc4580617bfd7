<script setup lang="ts">
import type { Fault } from '@/api/problem'
import Action from '@/ui/Action.vue'
import Choice from '@/ui/Choice.vue'
import Field from '@/ui/Field.vue'
import { columnOf, kindOf, kinds, languages, numberOf, type Kind, type RecipeDoc } from './document'

/** How rows are made: how many, from which seed, and what each column holds. */
defineProps<{ faultBelow: (path: string) => Fault | undefined }>()
const emit = defineEmits<{ done: [] }>()
const recipe = defineModel<RecipeDoc>({ required: true })
const laws = [
  { value: 'uniform', text: 'uniform' },
  { value: 'normal', text: 'normal' },
  { value: 'exponential', text: 'exponential' },
  { value: 'lognormal', text: 'log-normal' },
]
const parts = [
  { value: 'full', text: 'full names' },
  { value: 'given', text: 'given names' },
  { value: 'family', text: 'family names' },
]
const choicesOf = (values: string[]) => values.map((value) => ({ value, text: value }))

function add() {
  const names = new Set(recipe.value.columns.map((c) => c.name))
  let number = names.size + 1
  while (names.has(`column_${number}`)) number += 1
  recipe.value.columns.push(columnOf(`column_${number}`, 'sequence'))
  emit('done')
}
function become(index: number, kind: string | undefined) {
  const column = recipe.value.columns[index]
  if (column) recipe.value.columns[index] = columnOf(column.name, (kind ?? 'sequence') as Kind)
}
function remove(index: number) {
  recipe.value.columns.splice(index, 1)
  emit('done')
}
</script>

<template>
  <div class="grid gap-3 sm:grid-cols-2">
    <Field
      v-model="recipe.rows as number | undefined"
      label="Rows"
      type="number"
      :fault="faultBelow('make.rows')"
      @done="$emit('done')"
    />
    <Field
      v-model="recipe.seed"
      label="Seed"
      type="number"
      placeholder="1"
      hint="The same seed makes the same rows, everywhere."
      :fault="faultBelow('make.seed')"
      @done="$emit('done')"
    />
  </div>
  <ol class="mt-3 divide-y divide-rule border-y border-rule" aria-label="Columns">
    <li
      v-for="(column, i) in recipe.columns"
      :key="i"
      class="py-3"
      :data-column="column.name"
      :aria-label="`Column ${column.name}`"
    >
      <div class="grid items-end gap-3 sm:grid-cols-[1fr_1fr_auto]">
        <Field
          v-model="column.name as string | undefined"
          label="Column"
          mono
          :fault="faultBelow(`make.columns[${i}]`)"
          @done="$emit('done')"
        />
        <Choice
          label="Holds"
          :options="kinds"
          :model-value="kindOf(column)"
          @update:model-value="become(i, $event)"
          @done="$emit('done')"
        />
        <Action :disabled="recipe.columns.length < 2" @click="remove(i)">Remove</Action>
      </div>
      <div v-if="column.sequence" class="mt-2 grid gap-3 sm:grid-cols-4">
        <Field
          v-model="column.sequence.prefix"
          label="Text before it"
          mono
          placeholder="A-"
          @done="$emit('done')"
        />
        <Field v-model="column.sequence.from" label="From" type="number" @done="$emit('done')" />
        <Field
          v-model="column.sequence.by"
          label="In steps of"
          type="number"
          placeholder="1"
          @done="$emit('done')"
        />
        <Field
          v-model="column.sequence.digits"
          label="Digits at least"
          type="number"
          placeholder="0"
          @done="$emit('done')"
        />
      </div>
      <Field
        v-else-if="column.one_of"
        class="mt-2"
        label="The list, a line each"
        mono
        :lines="4"
        :model-value="column.one_of.join('\n')"
        @update:model-value="
          column.one_of = String($event ?? '')
            .split('\n')
            .filter(Boolean)
        "
        @done="$emit('done')"
      />
      <div v-else-if="column.person" class="mt-2 grid gap-3 sm:grid-cols-2">
        <Choice v-model="column.person.part" label="Names" :options="parts" @done="$emit('done')" />
        <Choice
          label="Language"
          :options="choicesOf(languages)"
          :model-value="column.person.language ?? 'English'"
          @update:model-value="column.person.language = $event"
          @done="$emit('done')"
        />
      </div>
      <div v-else-if="column.number" class="mt-2 grid gap-3 sm:grid-cols-4">
        <Choice
          label="Distribution"
          :options="laws"
          :model-value="column.number.law ?? 'uniform'"
          @update:model-value="column.number = numberOf($event ?? 'uniform', column.number!)"
          @done="$emit('done')"
        />
        <template v-if="(column.number.law ?? 'uniform') === 'uniform'">
          <Field v-model="column.number.from" label="From" type="number" @done="$emit('done')" />
          <Field v-model="column.number.to" label="To" type="number" @done="$emit('done')" />
        </template>
        <template v-else>
          <Field v-model="column.number.mean" label="Mean" type="number" @done="$emit('done')" />
          <Field
            v-if="column.number.law !== 'exponential'"
            v-model="column.number.deviation"
            label="Standard deviation"
            type="number"
            @done="$emit('done')"
          />
        </template>
        <Field
          v-model="column.number.decimals"
          label="Decimals"
          type="number"
          placeholder="0"
          @done="$emit('done')"
        />
      </div>
    </li>
  </ol>
  <Action class="mt-3" @click="add">Add a column</Action>
</template>
