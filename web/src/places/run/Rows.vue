<script setup lang="ts">
import { Popover, PopoverButton, PopoverPanel } from '@headlessui/vue'
import { computed, nextTick } from 'vue'
import {
  AS_IT_IS,
  moved,
  ordered,
  overlaid,
  sized,
  toggled,
  type Arrangement,
  type Size,
} from '@/plates/arrangement'

/** Which rows the plate shows, in which order, how high. */
interface Row {
  id: string
  name: string
  height: number
  /** Whether another's measure can be drawn over it, and whether it has one itself. */
  carries: boolean
  measured: boolean
}
const props = defineProps<{ rows: Row[] }>()
const how = defineModel<Arrangement>({ required: true })
const all = computed(() => ordered(props.rows, how.value))
const changed = computed(() => JSON.stringify(how.value) !== JSON.stringify(AS_IT_IS))
const SIZES: { value: Size; text: string }[] = [
  { value: 'small', text: 'Small' },
  { value: 'usual', text: 'Usual' },
  { value: 'large', text: 'Large' },
]
async function move(event: Event, id: string, by: number) {
  const button = event.currentTarget as HTMLElement
  how.value = moved(props.rows, how.value, id, by)
  await nextTick()
  button.focus() // a row that changes its place loses it
}
const chosen = (event: Event) => (event.target as HTMLSelectElement).value
const others = (row: Row) => all.value.filter((one) => one.measured && one.id !== row.id)
</script>

<template>
  <Popover class="relative">
    <PopoverButton class="rounded border border-rule bg-card px-3 py-1.5 hover:border-ink-2">
      Rows
      <span v-if="changed && how.hidden.length" class="label">{{ how.hidden.length }} hidden</span>
    </PopoverButton>
    <PopoverPanel
      class="absolute right-0 z-20 mt-1 max-h-[70vh] w-96 max-w-[90vw] overflow-y-auto rounded border border-rule bg-card p-3 shadow-lg"
      data-testid="rows"
    >
      <ul>
        <li
          v-for="(row, i) in all"
          :key="row.id"
          class="flex flex-wrap items-center gap-x-2 py-0.5"
        >
          <label class="flex min-w-0 grow items-center gap-2">
            <input
              type="checkbox"
              :checked="!how.hidden.includes(row.id)"
              @change="how = toggled(how, row.id)"
            />
            <span class="truncate" :title="row.name">{{ row.name }}</span>
          </label>
          <select
            class="label bg-transparent"
            :aria-label="`Height of ${row.name}`"
            :value="how.sizes[row.id] ?? 'usual'"
            @change="how = sized(how, row.id, chosen($event) as Size)"
          >
            <option v-for="size in SIZES" :key="size.value" :value="size.value">
              {{ size.text }}
            </option>
          </select>
          <button
            v-for="[by, arrow, where] in [
              [-1, '↑', 'up'],
              [1, '↓', 'down'],
            ] as const"
            :key="where"
            type="button"
            class="px-1 text-ink-2 hover:text-ink aria-disabled:opacity-30"
            :aria-disabled="by < 0 ? i === 0 : i === all.length - 1"
            :aria-label="`${row.name} ${where}`"
            @click="move($event, row.id, by)"
          >
            {{ arrow }}
          </button>
          <label v-if="row.carries" class="label flex basis-full items-center gap-1 pl-6">
            drawn over it:
            <select
              class="max-w-40 truncate bg-transparent"
              :aria-label="`Over ${row.name}`"
              :value="how.over[row.id] ?? ''"
              @change="how = overlaid(how, row.id, chosen($event))"
            >
              <option value="">nothing</option>
              <option v-for="one in others(row)" :key="one.id" :value="one.id">
                {{ one.name }}
              </option>
            </select>
          </label>
        </li>
      </ul>
      <p class="label mt-2 flex justify-between gap-2 border-t border-rule pt-2">
        <span>
          What is drawn over a row has a scale of its own. Remembered in this browser for every run
          of the experiment.
        </span>
        <button
          type="button"
          class="whitespace-nowrap text-copper hover:underline disabled:opacity-40"
          :disabled="!changed"
          @click="how = AS_IT_IS"
        >
          As it was
        </button>
      </p>
    </PopoverPanel>
  </Popover>
</template>
