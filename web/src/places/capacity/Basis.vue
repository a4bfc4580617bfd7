<script setup lang="ts">
import { computed } from 'vue'
import type { CapacityAnswer } from '@/api/capacity'
import type { Fault } from '@/api/problem'
import Action from '@/ui/Action.vue'
import Field from '@/ui/Field.vue'
import type { CapacityDoc } from './document'

/** What the plan rests on and may choose from: runs, the mix and think time, other sizes of instances, and the fewest of
 * each component. */
const doc = defineModel<CapacityDoc>({ required: true })
const props = defineProps<{
  answer: CapacityAnswer | undefined
  faultAt: (path: string) => Fault | undefined
  disabled: boolean
}>()
const emit = defineEmits<{ done: [] }>()
const components = computed(() => props.answer?.components ?? [])

/** Runs as they are typed: "31, 34"; what is no number stays, for the server to refuse. */
const runs = computed({
  get: () => (doc.value.runs ?? []).join(', '),
  set: (text: string) => {
    const given = text.split(/[\s,]+/).filter(Boolean)
    doc.value.runs = given.map((one) =>
      Number.isFinite(Number(one)) ? Number(one) : (one as unknown as number),
    )
  },
})
/** Weights of journeys as they are typed, a line each: "Plan a trip: 30". */
const mix = computed({
  get: () =>
    Object.entries(doc.value.mix ?? {})
      .map(([name, weight]) => `${name}: ${weight}`)
      .join('\n'),
  set: (text: string) => {
    const told: Record<string, number> = {}
    for (const line of text.split('\n')) {
      const colon = line.lastIndexOf(':')
      const [name, weight] =
        colon < 0 ? [line.trim(), ''] : [line.slice(0, colon).trim(), line.slice(colon + 1).trim()]
      const number = Number(weight)
      if (name)
        told[name] =
          weight !== '' && Number.isFinite(number) ? number : (weight as unknown as number)
    }
    doc.value.mix = told
  },
})
const mixFault = computed(
  () =>
    props.faultAt('mix') ??
    Object.keys(doc.value.mix ?? {})
      .map((name) => props.faultAt(`mix.${name}`))
      .find(Boolean),
)
const runsFault = computed(
  () =>
    props.faultAt('runs') ??
    (doc.value.runs ?? []).map((_, i) => props.faultAt(`runs[${i}]`)).find(Boolean),
)

function addSize() {
  const component = components.value.find((one) => one.metered)?.name ?? ''
  const number = (doc.value.sizes ?? []).length + 1
  const size = { component, name: `size ${number}`, times: 2, price_per_hour: 0.2 }
  doc.value.sizes = [...(doc.value.sizes ?? []), size]
  emit('done')
}
function removeSize(index: number) {
  doc.value.sizes = (doc.value.sizes ?? []).filter((_, i) => i !== index)
  emit('done')
}
function setLeast(name: string, count: unknown) {
  const least = { ...doc.value.least }
  if (count === undefined || count === '') delete least[name]
  else least[name] = Number(count)
  doc.value.least = least
}
</script>

<template>
  <section aria-label="What it rests on" class="space-y-3">
    <h2>What it rests on</h2>
    <fieldset :disabled="disabled" class="min-w-0 space-y-3">
      <div class="grid gap-3 sm:grid-cols-2">
        <Field
          v-model="runs"
          label="Runs whose demands count"
          :placeholder="
            answer?.rests_on.length ? `the newest: ${answer.rests_on.join(', ')}` : 'the newest'
          "
          hint="Their numbers; several are taken together"
          :fault="runsFault"
          @done="emit('done')"
        />
        <Field
          v-model="doc.think"
          label="People think between two steps"
          placeholder="as in the run"
          :fault="faultAt('think')"
          @done="emit('done')"
        />
        <Field
          v-model="mix"
          class="sm:col-span-2"
          label="Mix of journeys"
          :lines="3"
          placeholder="as in the run; or a line each, with its weight. Plan a trip: 30"
          :fault="mixFault"
          @done="emit('done')"
        />
      </div>
      <div v-if="components.length" class="space-y-1">
        <p class="label">At least so many instances of</p>
        <div class="flex flex-wrap gap-3">
          <Field
            v-for="one in components"
            :key="one.name"
            class="w-28"
            type="number"
            :label="one.name"
            placeholder="any"
            :model-value="doc.least?.[one.name]"
            :fault="faultAt(`least.${one.name}`)"
            @update:model-value="setLeast(one.name, $event)"
            @done="emit('done')"
          />
        </div>
      </div>
      <div class="space-y-2">
        <p class="label">Other sizes that instances can have</p>
        <div
          v-for="(size, i) in doc.sizes ?? []"
          :key="i"
          class="grid grid-cols-2 items-start gap-x-3 sm:grid-cols-[1fr_1fr_6rem_7rem_auto]"
          role="group"
          :aria-label="`Size ${i + 1}`"
        >
          <Field
            v-model="size.component"
            label="Component"
            :label-hidden="i > 0"
            :fault="faultAt(`sizes[${i}].component`)"
            @done="emit('done')"
          />
          <Field
            v-model="size.name"
            label="Size"
            :label-hidden="i > 0"
            :fault="faultAt(`sizes[${i}].name`)"
            @done="emit('done')"
          />
          <Field
            :model-value="size.times"
            type="number"
            label="Times now"
            :label-hidden="i > 0"
            :fault="faultAt(`sizes[${i}].times`)"
            @update:model-value="size.times = Number($event)"
            @done="emit('done')"
          />
          <Field
            :model-value="size.price_per_hour"
            type="number"
            :label="`${answer?.currency ?? 'Price'} an hour`"
            :label-hidden="i > 0"
            :fault="faultAt(`sizes[${i}].price_per_hour`)"
            @update:model-value="size.price_per_hour = Number($event)"
            @done="emit('done')"
          />
          <Action
            needs="planner"
            :class="{ 'sm:mt-[17px]': i === 0 }"
            :aria-label="`Remove size ${i + 1}`"
            @click="removeSize(i)"
            >Remove</Action
          >
        </div>
        <Action needs="planner" :disabled="disabled || !components.length" @click="addSize"
          >Add a size</Action
        >
      </div>
      <Field
        v-model="doc.notes"
        label="Notes"
        :lines="2"
        :fault="faultAt('notes')"
        @done="emit('done')"
      />
    </fieldset>
  </section>
</template>
