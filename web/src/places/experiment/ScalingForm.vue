<script setup lang="ts">
import { computed } from 'vue'
import type { PlanOutline } from '@/api/experiments'
import Action from '@/ui/Action.vue'
import Choice from '@/ui/Choice.vue'
import Field from '@/ui/Field.vue'
import { given, loadFigure } from '@/ui/format'
import { usePlan, type ScaledDoc } from './plan'

/** One thing of the system at several values, and the whole load at each of them. */
const props = defineProps<{ outline: PlanOutline }>()
const SWITCH_S = 25
const plan = usePlan()
const told = computed(() => plan.data.value?.scaling)
const changes = computed(() => props.outline.system.changes)
const components = computed(() =>
  props.outline.system.components.map((one) => ({ value: one.name, text: one.name })),
)
const KINDS = [
  { value: 'instances', text: 'instances of a component' },
  { value: 'size', text: 'the size of its instances' },
  { value: 'setting', text: 'a setting' },
  { value: 'data', text: 'the size of the data' },
]
const kind = computed(() => told.value?.of ?? 'instances')
const ofComponent = computed(() => kind.value === 'instances' || kind.value === 'size')
const options = computed(() => {
  const known = changes.value.map((one) => ({ value: one.name, text: one.name }))
  const own = told.value?.change
  return own && !known.some((one) => one.value === own)
    ? [...known, { value: own, text: own }]
    : known
})
const asks = computed(
  () => changes.value.find((one) => one.name === told.value?.change)?.asks ?? [],
)
/** What the change asks besides the component and the value, which is the last that nothing is said for. */
const others = computed(() => {
  const free = asks.value.filter((name) => !(name === 'component' && told.value?.component))
  const said = Object.keys(told.value?.also ?? {})
  const value = free.filter((name) => !said.includes(name)).at(-1)
  return free.filter((name) => name !== value)
})
const rounds = computed(() => told.value?.rounds ?? 2)
const values = computed(() => told.value?.values ?? [])
const valueOf = (one: ScaledDoc) => String(typeof one === 'object' ? (one.value ?? '') : one)
const typed = computed(() => values.value.map(valueOf).join(', '))
const sized = computed(() =>
  values.value.map((one) => ({
    value: valueOf(one),
    ...(typeof one === 'object' ? (one.type as { vcpus?: number; price_per_hour?: number }) : {}),
  })),
)
const turns = computed(() => rounds.value * values.value.length)
const takes = computed(() => {
  const each = props.outline.profile.duration_s + SWITCH_S
  return given(Math.max(60, Math.round((turns.value * each) / 60) * 60))
})

function begin() {
  const change = changes.value.find((one) => one.asks.includes('component')) ?? changes.value[0]
  plan.set(['scaling'], {
    of: 'instances',
    component: components.value.at(-1)?.value,
    change: change?.name ?? 'Set instances',
    values: [1, 2, 4],
    rounds: 2,
  })
  plan.commit()
}
function set(path: (string | number)[], value: unknown) {
  plan.set(['scaling', ...path], value)
  plan.commit()
}
const number = (text: string) => (/^\d+$/.test(text) ? Number(text) : text)
/** Values as they are typed, those that stay with what is known of them. */
function type(text: string) {
  const names = text.split(/[,;]/).map((one) => one.trim())
  const known = new Map(values.value.map((one) => [valueOf(one), one]))
  set(
    ['values'],
    names.filter(Boolean).map((one) => known.get(one) ?? number(one)),
  )
}
function size(index: number, field: 'vcpus' | 'price_per_hour', value: unknown) {
  const one = sized.value[index]
  if (!one) return
  const { value: name, ...before } = one
  const type = { name, ...before, [field]: value === '' || value === null ? undefined : value }
  set(['values', index], { value: name, type: JSON.parse(JSON.stringify(type)) as object })
}
const fault = computed(() => plan.faultBelow('scaling'))
</script>

<template>
  <section v-if="changes.length || told" aria-label="Scaling" class="space-y-3">
    <h2>Scaling</h2>
    <template v-if="!told">
      <p class="max-w-prose text-ink-2">
        As many instances as there are. The whole load can be made with one, two and four of them,
        or at other sizes and settings: what adding brings, where it stops to pay, and what would
        give out next.
      </p>
      <Action needs="planner" @click="begin">Scale something</Action>
    </template>
    <template v-else>
      <p class="text-ink-2">
        {{ turns }} turns of {{ given(outline.profile.duration_s) }} each, about {{ takes }} in all,
        in an order drawn at random in each round.
        <template v-if="outline.grows > 1"
          >With the most of it the load is {{ loadFigure(outline.grows) }} times as high.</template
        >
      </p>
      <div class="flex flex-wrap items-end gap-3">
        <Choice
          class="w-56"
          label="What is varied"
          :options="KINDS"
          :model-value="kind"
          @update:model-value="set(['of'], $event)"
        />
        <Choice
          class="w-44"
          label="Component"
          :options="ofComponent ? components : [{ value: '', text: 'none' }, ...components]"
          :model-value="told.component ?? ''"
          @update:model-value="set(['component'], $event || undefined)"
        />
        <Choice
          class="w-52"
          label="Set by"
          :options="options"
          :model-value="told.change ?? ''"
          @update:model-value="set(['change'], $event)"
        />
        <Field
          v-for="name in others"
          :key="name"
          class="w-32"
          :label="name.charAt(0).toUpperCase() + name.slice(1)"
          mono
          :model-value="String(told.also?.[name] ?? '')"
          @update:model-value="set(['also', name], String($event ?? '') || undefined)"
        />
      </div>
      <div class="flex flex-wrap items-end gap-3">
        <Field
          class="w-56"
          label="Values"
          mono
          :model-value="typed"
          @update:model-value="type(String($event ?? ''))"
        />
        <Field
          class="w-24"
          label="Rounds"
          type="number"
          :model-value="rounds"
          @update:model-value="set(['rounds'], $event)"
        />
        <Field
          class="w-40"
          label="Set in the end"
          mono
          placeholder="as described"
          :model-value="told.back === undefined ? '' : String(told.back)"
          @update:model-value="set(['back'], String($event ?? '').trim() || undefined)"
        />
        <Choice
          v-if="ofComponent"
          class="w-56"
          label="The load of each value"
          :options="[
            { value: 'grows', text: 'grows with it' },
            { value: 'same', text: 'is the same' },
          ]"
          :model-value="told.load_grows === false ? 'same' : 'grows'"
          @update:model-value="set(['load_grows'], $event === 'same' ? false : undefined)"
        />
      </div>
      <div v-if="kind === 'size'" class="space-y-2">
        <div
          v-for="(one, i) in sized"
          :key="one.value"
          class="flex flex-wrap items-end gap-3"
          role="group"
          :aria-label="one.value"
        >
          <code class="w-40 self-center font-mono break-words">{{ one.value }}</code>
          <Field
            class="w-28"
            label="Processors"
            type="number"
            :model-value="one.vcpus"
            @update:model-value="size(i, 'vcpus', $event)"
          />
          <Field
            class="w-36"
            :label="`${outline.currency} an hour`"
            type="number"
            :model-value="one.price_per_hour"
            @update:model-value="size(i, 'price_per_hour', $event)"
          />
        </div>
      </div>
      <p v-if="fault" class="text-[13px] text-brick" role="alert">
        ✕ {{ fault.message }} {{ fault.mend }}
      </p>
      <p class="label">
        A law needs three values that are numbers; one, two and four tell more than one, two and
        three. Enough load has to be there for each to reach its limit.
      </p>
      <Action needs="planner" @click="set([], undefined)">Scale nothing</Action>
    </template>
  </section>
</template>
