<script setup lang="ts">
import { computed, nextTick, ref } from 'vue'
import type { Schemas } from '@/api/client'
import { useHealth } from '@/api/health'
import { asProblem } from '@/api/problem'
import Grade from '@/ui/Grade.vue'
import Loading from '@/ui/Loading.vue'
import Sentence from '@/ui/Sentence.vue'
import { counted } from '@/ui/format'

/** What every level of a run was held against, as small marks, with the words of the one looked at; and what is known
 * of the run as a whole. */
const props = defineProps<{ run: number; of: string; selected: number | null }>()
const emit = defineEmits<{ select: [number] }>()
const open = ref(false)
const found = useHealth(
  () => props.run,
  open,
  () => props.of,
)
const checks = computed(() => found.data.value?.checks ?? [])
const levels = computed(() => found.data.value?.levels ?? [])

/** The mark looked at: which check, and which level of it. */
const at = ref<{ row: number; column: number }>({ row: 0, column: 0 })
const looked = ref(false)
const check = computed(() => checks.value[at.value.row])
const cell = computed(() => check.value?.levels[at.value.column])
const nameOf = (level: number) => levels.value.find((one) => one.number === level)?.load ?? ''

type Cell = Schemas['CheckOfLevel']
const failing = computed(() =>
  checks.value.flatMap((one, row) =>
    one.levels.flatMap((level, column) =>
      level.grade === 'strained' || level.grade === 'broken' ? [{ one, level, row, column }] : [],
    ),
  ),
)
const unknown = computed(() =>
  checks.value.reduce((sum, one) => sum + one.levels.filter((l) => l.grade === 'open').length, 0),
)
const summary = computed(() => {
  const all = checks.value.reduce((sum, one) => sum + one.levels.length, 0)
  if (failing.value.length)
    return `${failing.value.length} of ${counted(all, 'check')} did not hold at ${counted(levels.value.length, 'level')}.`
  const rest = unknown.value ? `; ${counted(unknown.value, 'mark')} could not be told` : ''
  return `Every check that could be made holds at ${counted(levels.value.length, 'level')}${rest}.`
})
/** So many of those that fail are told at once; the marks tell them all. */
const TOLD = 6

const table = ref<HTMLTableElement>()
function look(row: number, column: number) {
  at.value = { row, column }
  looked.value = true
  const level = checks.value[row]?.levels[column]
  if (level) emit('select', level.level)
}
const MOVES: Record<string, [number, number]> = {
  ArrowUp: [-1, 0],
  ArrowDown: [1, 0],
  ArrowLeft: [0, -1],
  ArrowRight: [0, 1],
}
async function move(event: KeyboardEvent) {
  const by = MOVES[event.key]
  if (!by) return
  event.preventDefault()
  const row = Math.min(Math.max(0, at.value.row + by[0]), checks.value.length - 1)
  const most = (checks.value[row]?.levels.length ?? 1) - 1
  look(row, Math.min(Math.max(0, at.value.column + by[1]), most))
  await nextTick()
  table.value?.querySelector<HTMLElement>('button[tabindex="0"]')?.focus()
}
const isAt = (row: number, column: number) => at.value.row === row && at.value.column === column
const spoken = (level: Cell) => `${nameOf(level.level)}: ${level.told}`
</script>

<template>
  <details
    class="mt-3"
    data-testid="health"
    @toggle="open = ($event.target as HTMLDetailsElement).open"
  >
    <summary class="label cursor-pointer">Laws and health, level by level</summary>
    <template v-if="open">
      <Loading v-if="found.isPending.value" what="the checks" />
      <p v-else-if="found.isError.value" class="label" role="status">
        {{ asProblem(found.error.value).detail }}
      </p>
      <div v-else-if="found.data.value" class="mt-2 space-y-3">
        <template v-if="levels.length">
          <p data-testid="health-summary">{{ summary }}</p>
          <div class="overflow-x-auto">
            <table ref="table" @keydown="move">
              <thead>
                <tr>
                  <th class="text-left">Level</th>
                  <th
                    v-for="level in levels"
                    :key="level.number"
                    class="figures px-1 text-center"
                    :class="selected === level.number ? 'bg-card text-copper' : ''"
                    :title="level.load"
                  >
                    {{ level.number }}
                  </th>
                </tr>
              </thead>
              <tbody>
                <tr v-for="(one, row) in checks" :key="one.kind" :data-check="one.kind">
                  <th scope="row" class="pr-3 text-left whitespace-nowrap" :title="one.asks">
                    {{ one.title }}
                  </th>
                  <td
                    v-for="(level, column) in one.levels"
                    :key="level.level"
                    class="px-0 text-center"
                    :class="selected === level.level ? 'bg-card' : ''"
                  >
                    <button
                      type="button"
                      class="min-w-6 px-1"
                      :class="looked && isAt(row, column) ? 'outline outline-copper' : ''"
                      :tabindex="isAt(row, column) ? 0 : -1"
                      :title="spoken(level)"
                      :aria-label="`${one.title}, ${spoken(level)}`"
                      :aria-pressed="looked && isAt(row, column)"
                      @click="look(row, column)"
                    >
                      <Grade :grade="level.grade" wordless />
                    </button>
                  </td>
                </tr>
              </tbody>
            </table>
          </div>
          <div
            v-if="looked && check && cell"
            class="border-l-2 border-copper pl-3"
            data-testid="health-cell"
            role="status"
          >
            <p class="break-words">
              <strong>{{ check.title }}</strong> at level {{ cell.level }},
              {{ nameOf(cell.level) }}:
              <Sentence :text="cell.told" />
            </p>
            <p class="label">{{ check.asks }}</p>
            <p v-if="cell.grade === 'strained' || cell.grade === 'broken'">{{ check.means }}</p>
            <p v-else class="label">Where it fails: {{ check.means }}</p>
          </div>
          <ul v-else-if="failing.length" class="space-y-1" data-testid="health-failing">
            <li v-for="f in failing.slice(0, TOLD)" :key="f.one.kind + f.level.level">
              <button
                type="button"
                class="text-left hover:text-copper"
                @click="look(f.row, f.column)"
              >
                <Grade :grade="f.level.grade" wordless />
                {{ f.one.title }}, level {{ f.level.level }} ({{ nameOf(f.level.level) }}):
                <Sentence :text="f.level.told" />
              </button>
            </li>
            <li v-if="failing.length > TOLD" class="label">
              And {{ failing.length - TOLD }} more; the marks tell them all.
            </li>
          </ul>
          <p v-else class="label">Choose a mark to read what was found, and what it would mean.</p>
        </template>
        <p v-else>The run has no level that was measured.</p>
        <dl class="grid grid-cols-[auto_minmax(0,1fr)] gap-x-3 gap-y-1">
          <template v-for="(one, i) in found.data.value.run" :key="i">
            <dt class="whitespace-nowrap" :data-run-check="one.kind">
              <Grade :grade="one.grade" wordless />
              {{ one.title }}
            </dt>
            <dd class="break-words"><Sentence :text="one.text" /></dd>
          </template>
        </dl>
      </div>
    </template>
  </details>
</template>
