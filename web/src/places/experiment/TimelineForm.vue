<script setup lang="ts">
import { computed } from 'vue'
import type { PlanOutline } from '@/api/experiments'
import Action from '@/ui/Action.vue'
import Choice from '@/ui/Choice.vue'
import Field from '@/ui/Field.vue'
import { usePlan, type DueDoc } from './plan'
import { typedDuration } from './quantities'

/** What a run changes of its system by itself, and when. */
const props = defineProps<{ outline: PlanOutline }>()
const plan = usePlan()
const dues = computed(() => plan.data.value?.timeline ?? [])
const changes = computed(() => props.outline.system.changes)
const options = computed(() => changes.value.map((one) => ({ value: one.name, text: one.name })))
const asksOf = (due: DueDoc) => changes.value.find((one) => one.name === due.change)?.asks ?? []
const components = computed(() =>
  props.outline.system.components.map((one) => ({ value: one.name, text: one.name })),
)

/** What is said for what a change asks: what is there, or something to begin with. */
function valuesFor(change: string, before: DueDoc['values'] = {}): Record<string, string> {
  const asks = changes.value.find((one) => one.name === change)?.asks ?? []
  const begun: Record<string, string> = { component: components.value[0]?.value ?? '', count: '2' }
  return Object.fromEntries(
    asks.map((name) => [name, String(before[name] ?? begun[name] ?? '1')] as const),
  )
}
function set(index: number, due: DueDoc) {
  plan.set(['timeline', index], due)
  plan.commit()
}
function add() {
  const change = changes.value[0]?.name
  if (!change) return
  const due = { at: '30 s', change, values: valuesFor(change) }
  if (dues.value.length) plan.insert(['timeline'], dues.value.length, due)
  else plan.set(['timeline'], [due])
  plan.commit()
}
function remove(index: number) {
  if (dues.value.length > 1) plan.remove(['timeline'], index)
  else plan.set(['timeline'], undefined)
  plan.commit()
}
</script>

<template>
  <section v-if="changes.length || dues.length" aria-label="Timeline">
    <h2 class="mb-1">Changes the system on the way</h2>
    <p v-if="!dues.length" class="mb-2 text-ink-2">
      Never: the system stays as it is, unless somebody changes it on the run’s page.
    </p>
    <div
      v-for="(due, i) in dues"
      :key="i"
      class="mb-2 flex flex-wrap items-end gap-x-3 gap-y-1"
      role="group"
      :aria-label="`Change ${i + 1} on the way`"
      data-testid="due"
    >
      <Field
        class="w-24"
        label="After"
        mono
        :model-value="due.at"
        @update:model-value="set(i, { ...due, at: typedDuration(String($event ?? ''), due.at) })"
      />
      <Choice
        class="w-48"
        label="What to do"
        :options="options"
        :model-value="due.change"
        @update:model-value="
          set(i, { ...due, change: $event ?? '', values: valuesFor($event ?? '', due.values) })
        "
      />
      <template v-for="name in asksOf(due)" :key="name">
        <Choice
          v-if="name === 'component'"
          class="w-40"
          label="Component"
          :options="components"
          :model-value="String(due.values?.[name] ?? '')"
          @update:model-value="set(i, { ...due, values: { ...due.values, [name]: $event ?? '' } })"
        />
        <Field
          v-else
          class="w-28"
          :label="name.charAt(0).toUpperCase() + name.slice(1)"
          mono
          :model-value="String(due.values?.[name] ?? '')"
          @update:model-value="
            set(i, { ...due, values: { ...due.values, [name]: String($event ?? '') } })
          "
        />
      </template>
      <Action :aria-label="`Remove change ${i + 1} on the way`" @click="remove(i)">Remove</Action>
      <p
        v-if="plan.faultBelow(`timeline[${i}]`)"
        class="w-full text-[13px] text-brick"
        role="alert"
      >
        ✕ {{ plan.faultBelow(`timeline[${i}]`)?.message }}
        {{ plan.faultBelow(`timeline[${i}]`)?.mend }}
      </p>
    </div>
    <Action needs="planner" :disabled="!changes.length" @click="add">Add a change</Action>
  </section>
</template>
