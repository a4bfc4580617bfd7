<script setup lang="ts">
import { computed, ref, watch } from 'vue'
import { useMoving, type Asked, type Line } from '@/api/moving'
import type { Shown } from '@/api/livePlate'
import { useSavePins, useSystem, type Pin } from '@/api/systems'
import { caption, chance, described, movesHow, nameOf, scatterOf, verdict } from '@/plates/moving'
import type { PlateInput } from '@/plates/view'
import { samePin } from '@/places/system/figures'
import Action from '@/ui/Action.vue'
import Choice from '@/ui/Choice.vue'
import Loading from '@/ui/Loading.vue'
import Problem from '@/ui/Problem.vue'
import { amount, clock, counted, load } from '@/ui/format'

/** What moves with a step's response time, or another row, beyond what the load explains. */
const props = defineProps<{
  id: number
  system: number | null
  input: PlateInput
  shown: Shown
  live: boolean
}>()
const emit = defineEmits<{ show: [string] }>()
const FIRST = 8
const MOST_PINS = 24
const BOX = { left: 62, right: 344, top: 12, bottom: 188 }
const ROWS = [
  { value: 'response', text: 'Response time' },
  { value: 'errors', text: 'Share of errors' },
  { value: 'throughput', text: 'Steps per second' },
  { value: 'in flight', text: 'Requests in flight' },
]
const STANDINGS = {
  moves: 'moves with it',
  'the same': 'counts the same wait',
  'a little': 'with it, by little',
  unknown: 'nobody can tell',
  'does not': 'does not',
}

const open = ref(false)
const row = ref('response')
const of = ref('')
const at = ref('')
const most = ref(FIRST)
const chosen = ref('')
const levels = computed(() =>
  props.input.levels.map((one) => ({
    value: String(one.number),
    text: `Level ${one.number}, ${load(one.load.delivered, props.input.profile.axis)}`,
  })),
)
const selections = computed(() => [
  { value: '', text: 'The step explained least' },
  ...props.input.plate.selections.map(({ id, name }) => ({ value: id, text: name })),
])
const asked = computed<Asked>(() => {
  const level = props.input.levels.find((one) => String(one.number) === at.value)
  const where = level
    ? { from_s: Math.ceil(level.start_s), until_s: Math.floor(level.end_s), last_s: 0 }
    : { from_s: props.shown.from_s, until_s: props.shown.until_s, last_s: props.shown.last_s }
  return { of: of.value, row: row.value, ...where }
})
const found = useMoving(() => props.id, asked, {
  live: () => props.live && !at.value,
  when: open,
})
const beside = computed(() => found.data.value)
const words = computed(() => (beside.value ? verdict(beside.value) : []))
const lines = computed(() => beside.value?.lines ?? [])
const seen = computed(() => lines.value.slice(0, most.value))
const rows = computed(() => {
  const own = ROWS.some((one) => one.value === row.value)
  return own || !beside.value ? ROWS : [...ROWS, { value: row.value, text: beside.value.title }]
})
const selected = computed(
  () => lines.value.find((one) => one.key === chosen.value) ?? lines.value[0],
)
const scatter = computed(() =>
  selected.value && beside.value ? scatterOf(selected.value, beside.value.values, BOX) : null,
)
watch(row, () => (chosen.value = ''))

const system = props.system === null ? null : useSystem(props.system)
const save = props.system === null ? null : useSavePins(props.system)
const pins = computed<Pin[]>(() => system?.data.value?.pins ?? [])
/** The row of the plate that draws it, where there is one. */
function rowOf(line: Line): string | null {
  if (line.at) return line.at
  const pin = line.pin
  const place = pin ? pins.value.findIndex((one) => samePin(one, pin)) : -1
  return place < 0 ? null : `pin:${place}`
}
function toPlate(line: Line) {
  const drawn = rowOf(line)
  if (drawn) return emit('show', drawn)
  if (!line.pin || !save) return
  save.mutate([...pins.value, line.pin], {
    onSuccess: () => emit('show', `pin:${pins.value.length - 1}`),
  })
}
function beyond(line: Line) {
  row.value = line.key
  of.value = beside.value?.of ?? ''
}
function move(event: KeyboardEvent) {
  const by = { ArrowUp: -1, ArrowDown: 1 }[event.key]
  if (by === undefined || !seen.value.length) return
  event.preventDefault()
  const place = seen.value.findIndex((one) => one.key === selected.value?.key)
  const next = Math.min(seen.value.length - 1, Math.max(0, place + by))
  chosen.value = seen.value[next]?.key ?? ''
  const list = event.currentTarget as HTMLElement
  list.querySelectorAll<HTMLElement>('button[data-line]')[next]?.focus()
}
const silent = computed(() => [
  { says: 'did not move with it', names: beside.value?.did_not ?? [] },
  { says: 'of which nobody can tell', names: beside.value?.unknown ?? [] },
  { says: 'stood still, or were hardly measured', names: beside.value?.still ?? [] },
])
</script>

<template>
  <details
    class="mt-2"
    data-testid="moving"
    @toggle="open = ($event.target as HTMLDetailsElement).open"
  >
    <summary class="label cursor-pointer">What moves with it</summary>
    <template v-if="open">
      <div class="mt-2 flex flex-wrap items-end gap-3">
        <Choice v-model="row" class="w-52" label="Beside" :options="rows" />
        <Choice
          v-if="row !== 'in flight'"
          :model-value="of"
          class="w-52"
          label="Of"
          :options="selections"
          @update:model-value="of = $event ?? ''"
        />
        <Choice
          v-model="at"
          class="w-52"
          label="In"
          :options="[{ value: '', text: 'The stretch looked at' }, ...levels]"
        />
      </div>
      <Loading v-if="found.isPending.value" what="what moves with it" />
      <Problem v-else-if="found.isError.value" :error="found.error.value" />
      <template v-else-if="beside">
        <p class="mt-3 text-[15.5px]" role="status" data-testid="moving-verdict">{{ words[0] }}</p>
        <p v-if="words[1]" class="label">
          {{ words[1] }} {{ clock(beside.from_s) }} to {{ clock(beside.until_s) }}.
        </p>
        <p v-if="beside.answer" class="label">
          What goes together need not be cause and effect: it says where to look. What limits by law
          stands beside the plate. ρ is the correlation of ranks: 1 where both rise together always,
          0 where neither knows of the other, −1 where one falls as the other rises.
          <template v-if="!beside.read && !input.plate.resources.length">
            No meter told anything.
          </template>
          <template v-else-if="!beside.read">
            Compared are the resources that are drawn; of this run nothing else that meters read is
            at hand.
          </template>
          <template v-if="beside.left_out">
            {{ counted(beside.left_out, 'further line') }} of labels were too many to compare.
          </template>
        </p>
        <div v-if="lines.length" class="mt-2 grid gap-4 xl:grid-cols-[1fr_22rem]">
          <div class="overflow-x-auto">
            <table class="w-full" @keydown="move">
              <thead>
                <tr>
                  <th>Metric</th>
                  <th>How, with the load taken out</th>
                  <th class="text-right">ρ</th>
                  <th class="text-right">ρ as it is</th>
                  <th class="text-right">By chance</th>
                </tr>
              </thead>
              <tbody>
                <tr
                  v-for="line in seen"
                  :key="line.key"
                  :class="{ 'bg-card': line.key === selected?.key }"
                  :data-standing="line.standing"
                >
                  <td class="break-words">
                    <button
                      type="button"
                      class="text-left hover:underline"
                      :aria-pressed="line.key === selected?.key"
                      data-line
                      @click="chosen = line.key"
                    >
                      <strong>{{ line.component }}</strong> {{ nameOf(line) }}
                    </button>
                    <span v-if="line.also.length" class="label block">
                      in proportion: {{ line.also.join(', ') }}
                    </span>
                  </td>
                  <td>
                    <template v-if="line.standing === 'moves'">{{ movesHow(line) }}</template>
                    <span v-else class="text-ink-2">{{ STANDINGS[line.standing] }}</span>
                  </td>
                  <td class="figures text-right">{{ line.apart.correlation.toFixed(2) }}</td>
                  <td class="figures text-right text-ink-2">
                    {{ line.plain.correlation.toFixed(2) }}
                  </td>
                  <td class="figures text-right whitespace-nowrap text-ink-2">
                    {{ chance(line.apart.false_share) }}
                  </td>
                </tr>
              </tbody>
            </table>
            <button
              v-if="lines.length > seen.length"
              type="button"
              class="mt-1 text-copper"
              @click="most = lines.length"
            >
              {{ counted(lines.length - seen.length, 'further metric') }}
            </button>
          </div>
          <figure v-if="selected" class="min-w-0">
            <svg
              v-if="scatter"
              viewBox="0 0 352 224"
              class="w-full max-w-sm"
              role="img"
              :aria-label="described(selected, beside, scatter)"
            >
              <path
                :d="`M${BOX.left},${BOX.top}V${BOX.bottom}H${BOX.right}`"
                fill="none"
                stroke="var(--rule)"
              />
              <circle
                v-for="(point, i) in scatter.points"
                :key="i"
                :cx="point.x"
                :cy="point.y"
                r="2.6"
                fill="var(--copper)"
                fill-opacity="0.5"
              />
              <g font-size="11" fill="var(--ink-2)">
                <text :x="BOX.left - 5" :y="BOX.top + 8" text-anchor="end">
                  {{ amount(scatter.row[1], beside.unit) }}
                </text>
                <text :x="BOX.left - 5" :y="BOX.bottom" text-anchor="end">
                  {{ amount(scatter.row[0], beside.unit) }}
                </text>
                <text :x="BOX.left" :y="BOX.bottom + 15">
                  {{ amount(scatter.metric[0], selected.unit) }}
                </text>
                <text :x="BOX.right" :y="BOX.bottom + 15" text-anchor="end">
                  {{ amount(scatter.metric[1], selected.unit) }}
                </text>
              </g>
            </svg>
            <figcaption class="label">
              {{ caption(selected, beside.title, scatter?.logarithmic ?? false) }}
            </figcaption>
            <div class="mt-2 flex flex-wrap gap-2">
              <Action v-if="rowOf(selected)" @click="toPlate(selected)">Show on the plate</Action>
              <Action
                v-else-if="selected.pin && save"
                needs="planner"
                :busy="save.isPending.value"
                :disabled="pins.length >= MOST_PINS"
                :title="
                  pins.length >= MOST_PINS
                    ? 'The plate shows 24 pinned figures already.'
                    : undefined
                "
                @click="toPlate(selected)"
                >Pin to the plate</Action
              >
              <Action @click="beyond(selected)">What moves with this</Action>
            </div>
            <Problem v-if="save?.isError.value" :error="save.error.value" />
          </figure>
        </div>
        <details
          v-for="part in silent.filter((one) => one.names.length)"
          :key="part.says"
          class="mt-1"
        >
          <summary class="label cursor-pointer">
            {{ counted(part.names.length, 'metric') }} {{ part.says }}
          </summary>
          <p class="text-[13.5px] break-words">{{ part.names.join(' · ') }}</p>
        </details>
      </template>
    </template>
  </details>
</template>
