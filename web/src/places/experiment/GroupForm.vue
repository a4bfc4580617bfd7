<script setup lang="ts">
import { computed } from 'vue'
import Choice from '@/ui/Choice.vue'
import Field from '@/ui/Field.vue'
import { percent } from '@/ui/format'
import type { Path } from '@/ui/yamlText'
import MixBar from './MixBar.vue'
import type { Portion } from './mix'
import { pathText, usePlan, type GroupDoc } from './plan'
import { typedDuration } from './quantities'

/** Who the people of a group are: what they do, from where, over which line, and how they end. */
const props = defineProps<{
  group: GroupDoc
  path: Path
  journeys: string[]
  /** What share of the journeys begun each has by its own weight. */
  weights: Record<string, number>
}>()
const plan = usePlan()
const arrives = computed(() => props.group.arrivals !== undefined)
const mix = computed(() => props.group.mix ?? {})
const counted = (value: unknown) => /^\s*(\d+)\s*users?\s*$/.exec(String(value ?? ''))?.[1]
const shares = computed(() =>
  Object.values(mix.value).reduce<number>((sum, v) => sum + (counted(v) ? 0 : Number(v) || 0), 0),
)
/** Who has a share of what is begun, as parts of a bar: by the mix, or by the journeys' weights where there is none. */
const portions = computed<Portion[]>(() =>
  props.journeys
    .map((name) => ({
      name,
      share: Object.keys(mix.value).length
        ? counted(told(name))
          ? 0
          : Number(told(name)) || 0
        : (props.weights[name] ?? 0),
    }))
    .filter((one) => one.share > 0),
)
function mixAnew(shares: Record<string, number>) {
  set('mix', { ...mix.value, ...shares })
}
/** Lines of our own choosing: what they carry down and up, and their round trip. */
const LINES: { value: string; text: string; network: Record<string, string> | undefined }[] = [
  { value: 'any', text: 'as fast as it goes', network: undefined },
  {
    value: 'office',
    text: 'office line: 100 and 40 Mbit/s, 8 ms',
    network: { down: '100 Mbit/s', up: '40 Mbit/s', round_trip: '8 ms' },
  },
  {
    value: 'home',
    text: 'home line: 16 and 3 Mbit/s, 25 ms',
    network: { down: '16 Mbit/s', up: '3 Mbit/s', round_trip: '25 ms' },
  },
  {
    value: 'road',
    text: 'on the road: 4 and 1 Mbit/s, 70 ms',
    network: { down: '4 Mbit/s', up: '1 Mbit/s', round_trip: '70 ms' },
  },
  {
    value: 'poor',
    text: 'poor line: 400 and 150 kbit/s, 350 ms',
    network: { down: '400 kbit/s', up: '150 kbit/s', round_trip: '350 ms' },
  },
]
const line = computed(
  () =>
    LINES.find((l) => JSON.stringify(l.network ?? {}) === JSON.stringify(props.group.network ?? {}))
      ?.value ?? 'own',
)

function set(field: string, value: unknown) {
  plan.set([...props.path, field], value === '' ? undefined : value)
  plan.commit()
}
const regions = computed(() =>
  props.group.regions
    ? Object.entries(props.group.regions)
        .map(([name, part]) => `${name} ${part}`)
        .join(', ')
    : (props.group.region ?? ''),
)
/** "north 60 %, south 40": shares; one name alone: all of them. */
function setRegions(text: string) {
  const parts = [...text.matchAll(/([^\s,]+)\s+(\d+(?:[.,]\d+)?)\s*%?/g)]
  const shares = parts.map(([, name, part]) => [name, Number((part ?? '').replace(',', '.'))])
  plan.set([...props.path, 'regions'], parts.length ? Object.fromEntries(shares) : undefined)
  plan.set([...props.path, 'region'], parts.length ? undefined : text.trim() || undefined)
  plan.commit()
}
function setRoundTrip(text: string) {
  const round_trip = text.trim() ? typedDuration(text, '1 ms') : undefined
  set('network', { ...props.group.network, round_trip })
}
const fault = (field: string) => plan.faultBelow(`${pathText(props.path)}.${field}`)
function share(name: string, text: string) {
  const value = text.trim()
  const plain = /^[\d.,]+$/.test(value) ? Number(value.replace(',', '.')) : value
  const next = { ...mix.value, [name]: value ? plain : undefined }
  const kept = Object.fromEntries(Object.entries(next).filter(([, v]) => v !== undefined))
  set('mix', Object.keys(kept).length ? kept : undefined)
}
const told = (name: string) => {
  const value = mix.value[name]
  if (value !== null && typeof value === 'object')
    return `${(value as { users?: number }).users} users`
  return value === undefined ? '' : String(value)
}
</script>

<template>
  <details class="mt-1">
    <summary class="label cursor-pointer">Who they are: mix, region, line, how they leave</summary>
    <div class="mt-2 space-y-3 border-l border-rule pl-3">
      <fieldset class="min-w-0">
        <legend class="label">
          Mix: shares such as 3{{ arrives ? '' : ', or a count such as 5 users' }}; empty: the
          journeys’ weights
        </legend>
        <MixBar v-if="portions.length > 1" :portions="portions" @change="mixAnew" />
        <div class="grid gap-x-3 sm:grid-cols-2">
          <Field
            v-for="name in journeys"
            :key="name"
            :label="
              counted(told(name)) || !told(name)
                ? name
                : `${name}, ${percent((Number(told(name)) || 0) / (shares || 1))}`
            "
            mono
            :model-value="told(name)"
            @update:model-value="share(name, String($event ?? ''))"
          />
        </div>
        <p v-if="fault('mix')" class="text-[13px] text-brick" role="alert">
          ✕ {{ fault('mix')?.message }} {{ fault('mix')?.mend }}
        </p>
      </fieldset>
      <div class="grid gap-3 sm:grid-cols-3">
        <Field
          label="Region, or shares: north 60, south 40"
          mono
          :fault="fault('region')"
          :model-value="regions"
          @update:model-value="setRegions(String($event ?? ''))"
        />
        <Choice
          label="Line"
          :options="line === 'own' ? [...LINES, { value: 'own', text: 'one of their own' }] : LINES"
          :model-value="line"
          @update:model-value="set('network', LINES.find((l) => l.value === $event)?.network)"
        />
        <Choice
          label="They leave"
          :options="[
            { value: 'after the step', text: 'after the step' },
            { value: 'after the journey', text: 'after the journey' },
          ]"
          :model-value="group.leave ?? 'after the step'"
          @update:model-value="set('leave', $event === 'after the step' ? undefined : $event)"
        />
        <Field
          label="Line, down"
          mono
          placeholder="no limit"
          :fault="fault('network.down')"
          :model-value="String(group.network?.down ?? '')"
          @update:model-value="set('network', { ...group.network, down: $event || undefined })"
        />
        <Field
          label="Line, up"
          mono
          placeholder="no limit"
          :fault="fault('network.up')"
          :model-value="String(group.network?.up ?? '')"
          @update:model-value="set('network', { ...group.network, up: $event || undefined })"
        />
        <Field
          label="Line, round trip"
          mono
          placeholder="none added"
          :fault="fault('network.round_trip')"
          :model-value="String(group.network?.round_trip ?? '')"
          @update:model-value="setRoundTrip(String($event ?? ''))"
        />
        <Field
          :label="arrives ? 'Journeys each' : 'Until each has done so many journeys'"
          type="number"
          mono
          :placeholder="arrives ? '1' : 'no end'"
          :fault="fault('journeys_each')"
          :model-value="group.journeys_each"
          @update:model-value="set('journeys_each', $event)"
        />
        <template v-if="arrives">
          <Choice
            label="Spacing"
            :options="[
              { value: 'poisson', text: 'at random (Poisson)' },
              { value: 'even', text: 'even' },
            ]"
            :model-value="group.law ?? 'poisson'"
            @update:model-value="set('law', $event === 'poisson' ? undefined : $event)"
          />
          <Field
            label="Turned away beyond"
            type="number"
            mono
            placeholder="1000"
            :fault="fault('at_most')"
            :model-value="group.at_most"
            @update:model-value="set('at_most', $event)"
          />
          <Choice
            label="Connections"
            :options="[
              { value: 'own', text: 'each its own' },
              { value: 'kept', text: 'kept by who leaves' },
            ]"
            :model-value="group.connections ?? 'own'"
            @update:model-value="set('connections', $event === 'own' ? undefined : $event)"
          />
        </template>
      </div>
    </div>
  </details>
</template>
