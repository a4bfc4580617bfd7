<script setup lang="ts">
import { computed } from 'vue'
import { useRole } from '@/ui/role'
import type { MeterCheck } from '@/api/systems'
import Action from '@/ui/Action.vue'
import Field from '@/ui/Field.vue'
import { stateOf, together } from '@/ui/meterState'
import MeterForm from './MeterForm.vue'
import { useSharedDocument, type ComponentDoc, type InstanceTypeDoc } from './document'

const props = defineProps<{ index: number; checks: MeterCheck[]; open: boolean }>()
const emit = defineEmits<{ toggle: [open: boolean]; remove: [] }>()
const component = defineModel<ComponentDoc>({ required: true })
const { doc, commit, faultAt, system } = useSharedDocument()
const path = computed(() => `components[${props.index}]`)
const own = computed(() => props.checks.filter((c) => c.component === component.value.name))
const state = computed(() => stateOf(together(own.value)))
const currency = computed(() => doc.value?.currency || 'EUR')
const others = computed(() =>
  (doc.value?.components ?? []).map((c) => c.name).filter((n) => n !== component.value.name),
)
const { reads } = useRole()
const fixed = computed(() => reads.value || (system.data.value?.archived ?? false))

/** The component's name stands in what others call: they follow it. */
function rename(name: string) {
  const before = component.value.name
  for (const other of doc.value?.components ?? [])
    other.calls = other.calls?.map((called) => (called === before ? name : called))
  component.value.name = name
}
function setType(key: keyof InstanceTypeDoc, value: string | number | undefined) {
  component.value.instance_type = { ...component.value.instance_type, [key]: value }
}
function toggleCall(name: string) {
  const calls = component.value.calls ?? []
  component.value.calls = calls.includes(name) ? calls.filter((n) => n !== name) : [...calls, name]
  void commit()
}
function addMeter() {
  component.value.meters = [
    ...(component.value.meters ?? []),
    { openmetrics: ['http://127.0.0.1:9100/metrics'] },
  ]
  void commit()
}
function removeMeter(j: number) {
  component.value.meters?.splice(j, 1)
  void commit()
}
</script>

<template>
  <details
    :id="`component-${index}`"
    :open="open"
    class="border-t border-rule py-2"
    :data-component-form="component.name"
    @toggle="emit('toggle', ($event.target as HTMLDetailsElement).open)"
  >
    <summary class="flex cursor-pointer flex-wrap items-baseline gap-x-3 py-1">
      <span class="label w-3" aria-hidden="true">{{ open ? '▾' : '▸' }}</span>
      <strong class="break-all">{{ component.name || 'without a name' }}</strong>
      <span class="text-ink-2">{{ component.role }}</span>
      <span class="label">
        {{ component.instances ?? 1 }} × {{ component.instance_type?.name || 'instance' }}
      </span>
      <span class="label" :class="state.look">{{ state.glyph }} {{ state.word }}</span>
    </summary>
    <fieldset :disabled="fixed" class="mt-2 min-w-0 space-y-4 pb-4 pl-5">
      <div class="grid gap-3 sm:grid-cols-2">
        <Field
          :model-value="component.name"
          label="Name"
          mono
          :fault="faultAt(`${path}.name`)"
          @update:model-value="rename(String($event ?? ''))"
          @done="commit"
        />
        <Field
          v-model="component.role"
          label="Role"
          placeholder="what it does"
          :fault="faultAt(`${path}.role`)"
          @done="commit"
        />
        <Field
          v-model="component.instances"
          label="Instances"
          type="number"
          placeholder="1"
          :fault="faultAt(`${path}.instances`)"
          @done="commit"
        />
        <Field
          v-model="component.version"
          label="Version label"
          :fault="faultAt(`${path}.version`)"
          @done="commit"
        />
      </div>
      <div class="grid gap-3 sm:grid-cols-4" role="group" aria-label="Instance type">
        <Field
          :model-value="component.instance_type?.name"
          label="Instance type"
          @update:model-value="setType('name', $event)"
          @done="commit"
        />
        <Field
          :model-value="component.instance_type?.vcpus"
          label="vCPU"
          type="number"
          :fault="faultAt(`${path}.instance_type.vcpus`)"
          @update:model-value="setType('vcpus', $event)"
          @done="commit"
        />
        <Field
          :model-value="component.instance_type?.memory"
          label="Memory"
          placeholder="16 GB"
          :fault="faultAt(`${path}.instance_type.memory`)"
          @update:model-value="setType('memory', $event)"
          @done="commit"
        />
        <Field
          :model-value="component.instance_type?.price_per_hour"
          :label="`Price per hour, ${currency}`"
          type="number"
          :fault="faultAt(`${path}.instance_type.price_per_hour`)"
          @update:model-value="setType('price_per_hour', $event)"
          @done="commit"
        />
      </div>
      <div v-if="others.length" role="group" aria-label="Calls">
        <p class="label">Calls these components</p>
        <div class="flex flex-wrap gap-x-4 gap-y-1">
          <label v-for="name in others" :key="name" class="flex items-center gap-1.5">
            <input
              type="checkbox"
              class="accent-copper"
              :checked="component.calls?.includes(name)"
              @change="toggleCall(name)"
            />
            {{ name }}
          </label>
        </div>
      </div>
      <Field v-model="component.notes" label="Notes" :lines="2" @done="commit" />
      <section class="space-y-3" :aria-label="`Meters of ${component.name}`">
        <h3 class="font-semibold">Meters</h3>
        <p v-if="!component.meters?.length" class="max-w-prose text-ink-2">
          A meter tells how busy this component is. Without one, a run cannot name it as the limit.
        </p>
        <MeterForm
          v-for="(meter, j) in component.meters ?? []"
          :key="j"
          :model-value="meter"
          :path="`${path}.meters[${j}]`"
          :component="component"
          :checks="own.filter((c) => c.meter === j)"
          @update:model-value="component.meters![j] = $event"
          @remove="removeMeter(j)"
        />
        <div class="flex flex-wrap gap-2">
          <Action @click="addMeter">Add a meter</Action>
          <Action kind="danger" @click="emit('remove')">
            Remove {{ component.name || 'this component' }}
          </Action>
        </div>
      </section>
    </fieldset>
  </details>
</template>
