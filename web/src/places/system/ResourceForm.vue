<script setup lang="ts">
import { computed } from 'vue'
import Action from '@/ui/Action.vue'
import Choice from '@/ui/Choice.vue'
import Field from '@/ui/Field.vue'
import { useSharedDocument, type ResourceDoc } from './document'
import { labelsFrom, labelsText } from './labels'

const props = defineProps<{ path: string }>()
const emit = defineEmits<{ remove: [] }>()
const resource = defineModel<ResourceDoc>({ required: true })
const { commit, faultAt, faultBelow } = useSharedDocument()

const kinds = ['cpu', 'disk', 'memory', 'network', 'pool', 'threads', 'queue'].map((kind) => ({
  value: kind,
  text: kind,
}))
const directions = [
  { value: 'used', text: 'what is used' },
  { value: 'free', text: 'what is left' },
]
const capacities = [
  { value: 'capacity', text: 'a number' },
  { value: 'capacity_metric', text: 'another metric' },
  { value: 'vcpus', text: "the instance type's vCPU" },
  { value: 'memory', text: "the instance type's memory" },
  { value: 'series', text: 'how many series there are' },
]
const capacity = computed(
  () =>
    resource.value.capacity_from ??
    (resource.value.capacity_metric !== undefined ? 'capacity_metric' : 'capacity'),
)
const capacityFault = computed(() => faultBelow(`${props.path}.capacity`) ?? faultAt(props.path))

function chooseCapacity(kind: string | undefined) {
  const rest: ResourceDoc = { ...resource.value }
  delete rest.capacity
  delete rest.capacity_metric
  delete rest.capacity_from
  if (kind === 'capacity') resource.value = { ...rest, capacity: 1 }
  else if (kind === 'capacity_metric') resource.value = { ...rest, capacity_metric: 'metric_name' }
  else resource.value = { ...rest, capacity_from: kind }
  void commit()
}
</script>

<template>
  <div class="grid gap-3 border-t border-rule pt-2 sm:grid-cols-3" data-testid="resource">
    <Field
      v-model="resource.name"
      label="Resource"
      :fault="faultAt(`${path}.name`)"
      @done="commit"
    />
    <Choice v-model="resource.kind" label="Kind" :options="kinds" @done="commit" />
    <Field
      v-model="resource.metric"
      label="Metric"
      mono
      :fault="faultAt(`${path}.metric`)"
      @done="commit"
    />
    <Choice
      label="The metric tells"
      :model-value="resource.direction ?? 'used'"
      :options="directions"
      @update:model-value="resource.direction = $event as 'used' | 'free'"
      @done="commit"
    />
    <Choice
      label="Full is"
      :model-value="capacity"
      :options="capacities"
      @update:model-value="chooseCapacity"
    />
    <Field
      v-if="capacity === 'capacity'"
      v-model="resource.capacity"
      label="Capacity, in the metric's unit"
      type="number"
      :fault="capacityFault"
      @done="commit"
    />
    <Field
      v-else-if="capacity === 'capacity_metric'"
      v-model="resource.capacity_metric"
      label="Metric that tells the capacity"
      mono
      :fault="capacityFault"
      @done="commit"
    />
    <p v-else-if="capacityFault" class="text-[13px] text-brick" role="alert">
      ✕ {{ capacityFault.message }} {{ capacityFault.mend }}
    </p>
    <Field v-model="resource.unit" label="Unit" placeholder="s, bytes, slots" @done="commit" />
    <Field
      label="Only series with these labels"
      mono
      :model-value="labelsText(resource.labels)"
      @update:model-value="resource.labels = labelsFrom(String($event ?? ''))"
      @done="commit"
    />
    <Field v-model="resource.waiting_metric" label="Metric of those waiting" mono @done="commit" />
    <div class="self-end"><Action @click="emit('remove')">Remove mapping</Action></div>
  </div>
</template>
