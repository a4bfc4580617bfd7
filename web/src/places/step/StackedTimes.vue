<script setup lang="ts">
import { computed } from 'vue'
import { loadFigure, seconds, shareOf } from '@/ui/format'

/** What a mean time was made of at each level: a column each, its parts as hatches of one ink, and the same as a table. */
export interface StackedPart {
  key: string
  name: string
  hatch: string
  seconds: number
  /** What there is to say of it beside its share. */
  more?: string
}
export interface Stacked {
  key: number
  name: string
  load: number
  whole: number
  parts: StackedPart[]
}
const props = defineProps<{ columns: Stacked[]; unit: string; of: string }>()
const most = computed(() => Math.max(...props.columns.map((column) => column.whole), 0))
/** Each part that any column has, the one that took most at the highest first. */
const rows = computed(() => {
  const found = new Map<string, StackedPart>()
  for (const column of props.columns.toReversed())
    for (const part of column.parts.toSorted((a, b) => b.seconds - a.seconds))
      if (!found.has(part.key)) found.set(part.key, part)
  return [...found.values()]
})
const partOf = (column: Stacked, key: string) => column.parts.find((part) => part.key === key)
const share = (part: number, whole: number) => (part > 0 ? shareOf(part / whole) : '–')
/** What is thinner could not be seen. */
const THIN = 0.01
</script>

<template>
  <div>
    <div class="flex h-44 items-end gap-2 border-b border-rule" aria-hidden="true">
      <div
        v-for="column in columns"
        :key="column.key"
        class="flex max-w-16 min-w-2 flex-1 flex-col-reverse text-copper"
        :style="{ height: `${(100 * column.whole) / most}%` }"
        :title="`${column.name}: ${seconds(column.whole)}`"
      >
        <span
          v-for="part in column.parts.filter((one) => one.seconds / column.whole >= THIN)"
          :key="part.key"
          class="block w-full border border-current"
          :class="`hatch-${part.hatch}`"
          :style="{ height: `${(100 * part.seconds) / column.whole}%` }"
        />
      </div>
    </div>
    <div class="figures flex gap-2 text-[12px] text-ink-2" aria-hidden="true">
      <span
        v-for="column in columns"
        :key="column.key"
        class="max-w-16 min-w-2 flex-1 text-center"
        >{{ loadFigure(column.load) }}</span
      >
      <span>{{ unit }}</span>
    </div>
    <div class="mt-2 overflow-x-auto">
      <table>
        <thead>
          <tr>
            <th>{{ of }}</th>
            <th
              v-for="column in columns"
              :key="column.key"
              class="!pr-2 text-right whitespace-nowrap"
            >
              {{ loadFigure(column.load) }}
            </th>
          </tr>
        </thead>
        <tbody class="figures">
          <tr>
            <th scope="row" class="font-sans !text-[13.5px] !text-ink">all of it</th>
            <td
              v-for="column in columns"
              :key="column.key"
              class="!pr-2 text-right whitespace-nowrap"
            >
              {{ seconds(column.whole) }}
            </td>
          </tr>
          <tr v-for="row in rows" :key="row.key">
            <th scope="row" class="font-sans !text-[13.5px] whitespace-nowrap !text-ink">
              <span
                class="mr-2 inline-block h-3 w-4 border border-current align-[-1px] text-copper"
                :class="`hatch-${row.hatch}`"
              />{{ row.name }}
            </th>
            <td
              v-for="column in columns"
              :key="column.key"
              class="!pr-2 text-right whitespace-nowrap"
              :title="`${seconds(partOf(column, row.key)?.seconds ?? 0)}${partOf(column, row.key)?.more ?? ''}`"
            >
              {{ share(partOf(column, row.key)?.seconds ?? 0, column.whole) }}
            </td>
          </tr>
          <slot />
        </tbody>
      </table>
    </div>
  </div>
</template>
