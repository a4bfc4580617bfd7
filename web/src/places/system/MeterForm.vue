<script setup lang="ts">
import { computed } from 'vue'
import { useMeters, type MeterCheck } from '@/api/systems'
import Action from '@/ui/Action.vue'
import Choice from '@/ui/Choice.vue'
import Credentials from '@/ui/Credentials.vue'
import Field from '@/ui/Field.vue'
import MeterStates from './MeterStates.vue'
import ResourceForm from './ResourceForm.vue'
import { useSharedDocument, type ComponentDoc, type MeterDoc } from './document'
import { labelsFrom, labelsText } from './labels'

const props = defineProps<{
  path: string
  component: ComponentDoc
  checks: MeterCheck[]
}>()
const emit = defineEmits<{ remove: [] }>()
const meter = defineModel<MeterDoc>({ required: true })
const { commit, faultAt, faultBelow, system } = useSharedDocument()
const meters = useMeters(() => system.data.value?.id ?? 0)

const sources = [
  { value: 'openmetrics', text: 'Metrics pages' },
  { value: 'otlp', text: 'Pushed to us (OTLP)' },
  { value: 'server_timing', text: 'Server-Timing of responses' },
]
const source = computed(() =>
  meter.value.otlp !== undefined
    ? 'otlp'
    : meter.value.server_timing !== undefined
      ? 'server_timing'
      : 'openmetrics',
)
const addressFault = computed(() => faultAt(props.path) ?? faultBelow(`${props.path}.openmetrics`))

function choose(kind: string | undefined) {
  const { labels, resources } = meter.value
  const name = props.component.name
  const chosen: MeterDoc =
    kind === 'otlp'
      ? { otlp: name }
      : kind === 'server_timing'
        ? { server_timing: name }
        : { openmetrics: ['http://127.0.0.1:9100/metrics'] }
  meter.value = { ...chosen, labels, resources }
  void commit()
}
function setAddresses(text: string) {
  meter.value.openmetrics = text.split(/[\s,]+/).filter(Boolean)
}
function addResource() {
  meter.value.resources = [
    ...(meter.value.resources ?? []),
    { name: 'resource', kind: 'pool', metric: 'metric_name', capacity: 1 },
  ]
}
</script>

<template>
  <div class="space-y-3 rounded border border-rule bg-card p-3" data-testid="meter">
    <div class="flex flex-wrap items-end gap-3">
      <Choice
        class="w-60"
        label="Source"
        :model-value="source"
        :options="sources"
        @update:model-value="choose"
      />
      <Action class="ml-auto" :busy="meters.isFetching.value" @click="meters.refetch()"
        >Check now</Action
      >
      <Action @click="emit('remove')">Remove meter</Action>
    </div>
    <template v-if="source === 'openmetrics'">
      <Field
        label="Addresses, one for each instance"
        mono
        :lines="Math.max(1, meter.openmetrics?.length ?? 1)"
        :model-value="meter.openmetrics?.join('\n')"
        hint="OpenMetrics, the older text format, or a proxy's status page. In the practice system: practice://name/metrics"
        :fault="addressFault"
        @update:model-value="setAddresses(String($event ?? ''))"
        @done="commit"
      />
      <div class="grid gap-3 sm:grid-cols-3">
        <Credentials
          v-model="meter.credentials"
          :fault="faultBelow(`${path}.credentials`)"
          @done="commit"
        />
      </div>
    </template>
    <Field
      v-else-if="source === 'otlp'"
      v-model="meter.otlp"
      label="Service name it is pushed under"
      mono
      hint="The resource attribute service.name. Address and token stand in the margin."
      :fault="faultAt(`${path}.otlp`) ?? faultAt(path)"
      @done="commit"
    />
    <Field
      v-else
      v-model="meter.server_timing"
      label="Entry in the responses' Server-Timing header"
      mono
      :fault="faultAt(`${path}.server_timing`) ?? faultAt(path)"
      @done="commit"
    />
    <MeterStates :checks="checks" />
    <details v-if="source !== 'server_timing'">
      <summary class="label cursor-pointer">
        Labels and resources<template v-if="meter.resources?.length">
          ({{ meter.resources.length }} mapped)</template
        >
      </summary>
      <div class="mt-2 space-y-3">
        <Field
          label="Only series with these labels"
          mono
          placeholder="app=ledger, zone=a"
          :model-value="labelsText(meter.labels)"
          @update:model-value="meter.labels = labelsFrom(String($event ?? ''))"
          @done="commit"
        />
        <p class="max-w-prose text-[13px] text-ink-2">
          Resources of well-known metrics are recognised. Map others here: which metric, and what
          full means.
        </p>
        <ResourceForm
          v-for="(resource, k) in meter.resources ?? []"
          :key="k"
          :model-value="resource"
          :path="`${path}.resources[${k}]`"
          @update:model-value="meter.resources![k] = $event"
          @remove="(meter.resources!.splice(k, 1), commit())"
        />
        <Action @click="addResource">Map a resource</Action>
      </div>
    </details>
  </div>
</template>
