<script setup lang="ts">
import { computed, ref } from 'vue'
import Action from '@/ui/Action.vue'
import Choice from '@/ui/Choice.vue'
import Field from '@/ui/Field.vue'
import ChecksForm from './ChecksForm.vue'
import KeepsForm from './KeepsForm.vue'
import { useSharedJourney, type StepDoc } from './document'
import {
  bodyKind,
  linesFrom,
  pairsFrom,
  pairsText,
  statusesFrom,
  thinkFrom,
  thinkText,
  withBody,
  type BodyKind,
} from './texts'

const props = defineProps<{ index: number; count: number; open: boolean }>()
const emit = defineEmits<{
  toggle: [open: boolean]
  remove: []
  duplicate: []
  move: [by: number]
}>()
const step = defineModel<StepDoc>({ required: true })
const { commit, faultAt, faultBelow, faults } = useSharedJourney()
const path = computed(() => `steps[${props.index}]`)
const faulty = computed(() => faults.value.some((f) => f.path.startsWith(path.value)))
const methods = ['GET', 'POST', 'PUT', 'PATCH', 'DELETE', 'HEAD', 'OPTIONS'].map((m) => ({
  value: m,
  text: m,
}))
const bodies: { value: BodyKind; text: string }[] = [
  { value: 'none', text: 'no body' },
  { value: 'json', text: 'JSON' },
  { value: 'form', text: 'form fields' },
  { value: 'parts', text: 'form with files' },
  { value: 'raw', text: 'plain text' },
]
const method = computed(() => step.value.request.split(' ')[0] ?? 'GET')
const address = computed(() => step.value.request.slice(method.value.length + 1))
const kind = computed(() => bodyKind(step.value))
const jsonFault = ref('')

function setRequest(verb: string, where: string) {
  step.value.request = `${verb} ${where.trim()}`
}
function chooseBody(wanted: string | undefined) {
  step.value = withBody(step.value, wanted as BodyKind)
  jsonFault.value = ''
  void commit()
}
function setJson(text: string) {
  try {
    step.value.json = JSON.parse(text)
    jsonFault.value = ''
  } catch (error) {
    jsonFault.value = (error as Error).message
  }
}
function set<K extends keyof StepDoc>(key: K, value: StepDoc[K]) {
  step.value[key] = value
  void commit()
}
</script>

<template>
  <details
    :id="`step-${index}`"
    :open="open"
    class="border-t border-rule py-2"
    :data-step-form="step.name"
    @toggle="emit('toggle', ($event.target as HTMLDetailsElement).open)"
  >
    <summary class="flex cursor-pointer flex-wrap items-baseline gap-x-3 py-1">
      <span class="label w-3" aria-hidden="true">{{ open ? '▾' : '▸' }}</span>
      <strong class="break-words" :class="{ 'line-through opacity-60': step.enabled === false }">{{
        step.name || 'without a name'
      }}</strong>
      <code class="figures text-[13px] break-all text-ink-2">{{ step.request }}</code>
      <span v-if="step.enabled === false" class="label">disabled</span>
      <span v-if="faulty" class="text-brick">✕ to mend</span>
    </summary>
    <div class="mt-2 min-w-0 space-y-4 pb-4 pl-5">
      <div class="flex flex-wrap gap-2" role="group" :aria-label="`Place of ${step.name}`">
        <Action :disabled="index === 0" @click="emit('move', -1)">Move up</Action>
        <Action :disabled="index === count - 1" @click="emit('move', 1)">Move down</Action>
        <Action @click="emit('duplicate')">Duplicate step</Action>
        <Action @click="set('enabled', step.enabled === false ? undefined : false)">
          {{ step.enabled === false ? 'Enable' : 'Disable' }}
        </Action>
        <Action kind="danger" @click="emit('remove')">Remove step</Action>
      </div>
      <div class="grid gap-3 sm:grid-cols-[1fr_7rem_1.6fr]">
        <Field v-model="step.name" label="Step" :fault="faultAt(`${path}.name`)" @done="commit" />
        <Choice
          label="Method"
          :model-value="method"
          :options="methods"
          @update:model-value="setRequest($event ?? 'GET', address)"
          @done="commit"
        />
        <Field
          label="Address in the system"
          mono
          :model-value="address"
          placeholder="/departures?stop={{stop}}"
          :fault="faultAt(`${path}.request`) ?? faultAt(path)"
          @update:model-value="setRequest(method, String($event ?? ''))"
          @done="commit"
        />
      </div>
      <div class="grid gap-3 sm:grid-cols-4">
        <Field
          label="Think time after it"
          placeholder="exponential 4 s"
          :model-value="thinkText(step.think)"
          :hint="step.think ? undefined : 'None: users would click without looking.'"
          :fault="faultBelow(`${path}.think`)"
          @update:model-value="step.think = thinkFrom(String($event ?? ''))"
          @done="commit"
        />
        <Field
          label="Expects status"
          placeholder="200"
          :model-value="step.expect_status?.join(', ')"
          :fault="faultBelow(`${path}.expect_status`)"
          @update:model-value="step.expect_status = statusesFrom(String($event ?? ''))"
          @done="commit"
        />
        <Field
          v-model="step.time_limit"
          label="Time limit"
          placeholder="30 s"
          :fault="faultAt(`${path}.time_limit`)"
          @done="commit"
        />
        <label class="flex items-center gap-2 self-center pt-3">
          <input
            type="checkbox"
            class="accent-copper"
            :checked="step.redirects"
            @change="set('redirects', !step.redirects || undefined)"
          />
          Follow redirects
        </label>
      </div>
      <section class="space-y-2" :aria-label="`Body of ${step.name}`">
        <Choice
          class="w-48"
          label="Body"
          :model-value="kind"
          :options="bodies"
          @update:model-value="chooseBody"
        />
        <Field
          v-if="kind === 'json'"
          label="JSON"
          mono
          :lines="5"
          :model-value="JSON.stringify(step.json, null, 2)"
          :fault="
            jsonFault ? { path: '', message: 'This is not JSON:', mend: jsonFault } : undefined
          "
          @update:model-value="setJson(String($event ?? ''))"
          @done="jsonFault || commit()"
        />
        <Field
          v-else-if="kind === 'form'"
          label="Fields, a line each: name=value"
          mono
          :lines="Math.max(2, Object.keys(step.form ?? {}).length)"
          :model-value="pairsText(step.form, '=')"
          :fault="faultBelow(`${path}.form`)"
          @update:model-value="step.form = pairsFrom(String($event ?? ''), '=') ?? {}"
          @done="commit"
        />
        <template v-else-if="kind === 'parts'">
          <div v-for="(part, k) in step.parts ?? []" :key="k" class="grid gap-3 sm:grid-cols-4">
            <Field v-model="part.name" label="Field" @done="commit" />
            <Field v-model="part.value" label="Value or content" :lines="2" @done="commit" />
            <Field v-model="part.filename" label="File name, for a file" @done="commit" />
            <div class="self-end">
              <Action @click="(step.parts!.splice(k, 1), commit())">Remove field</Action>
            </div>
          </div>
          <Action @click="step.parts = [...(step.parts ?? []), { name: 'name', value: 'value' }]"
            >Add a field</Action
          >
        </template>
        <Field
          v-else-if="kind === 'raw'"
          v-model="step.body"
          label="Text; give its Content-Type as a header"
          mono
          :lines="4"
          @done="commit"
        />
      </section>
      <KeepsForm v-model="step.keep" :path="`${path}.keep`" @done="commit" />
      <ChecksForm v-model="step.checks" :path="`${path}.checks`" @done="commit" />
      <div class="grid gap-3 sm:grid-cols-2">
        <Field
          label="Headers, a line each: Name: value"
          mono
          :lines="2"
          :model-value="pairsText(step.headers, ': ')"
          @update:model-value="step.headers = pairsFrom(String($event ?? ''), ': ')"
          @done="commit"
        />
        <Field
          label="Accompanying files, a path each"
          mono
          :lines="2"
          placeholder="/static/tram.css"
          hint="Fetched in parallel once the page is answered, as browsers do"
          :model-value="step.accompanying?.join('\n')"
          :fault="faultBelow(`${path}.accompanying`)"
          @update:model-value="step.accompanying = linesFrom(String($event ?? ''))"
          @done="commit"
        />
      </div>
    </div>
  </details>
</template>
