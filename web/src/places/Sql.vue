<script setup lang="ts">
import { computed, nextTick, onMounted, ref } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { useRun } from '@/api/queries'
import { useSql, useSqlFile, useSqlTables } from '@/api/sql'
import { columnsOf, drawnOf, valueOf } from '@/plates/answer'
import Action from '@/ui/Action.vue'
import Choice from '@/ui/Choice.vue'
import Problem from '@/ui/Problem.vue'
import { counted, given, seconds, users } from '@/ui/format'
import Downloads from './run/Downloads.vue'
import AnswerRow from './sql/AnswerRow.vue'

/** A run asked in SQL: the statement, what came of it as a table, a row or a file, and beside it what can be asked. */
const props = defineProps<{ id: number }>()
/** A statement so long still fits into an address that can be sent. */
const MOST_IN_ADDRESS = 1_500
const SHOWN = 200
const route = useRoute()
const router = useRouter()
const run = useRun(() => props.id)
const tables = useSqlTables(() => props.id)
const asked = useSql(() => props.id)
const file = useSqlFile(() => props.id)
const statement = ref(typeof route.query.ask === 'string' ? route.query.ask : '')
const editor = ref<HTMLTextAreaElement | null>(null)
const link = ref<HTMLAnchorElement | null>(null)
const lines = computed(() => Math.min(16, Math.max(5, statement.value.split('\n').length + 1)))
const answer = computed(() => asked.data.value)
/** The statement that the answer is of. */
const answered = ref('')
const shown = ref(SHOWN)
const numbers = computed(() => (answer.value ? columnsOf(answer.value).numbers : []))
const along = ref('')
const what = ref('')
const drawn = computed(() => {
  const x = numbers.value.includes(along.value) ? along.value : numbers.value[0]
  const others = numbers.value.filter((name) => name !== x)
  const y = others.includes(what.value) ? what.value : others.at(-1)
  return answer.value && x && y ? drawnOf(answer.value, x, y) : null
})
const named = (names: string[]) => names.map((name) => ({ value: name, text: name }))

function ask() {
  const text = statement.value.trim()
  if (!text || asked.isPending.value) return
  shown.value = SHOWN
  file.reset()
  asked.mutate(text, { onSuccess: () => (answered.value = text) })
  void router.replace({ query: text.length <= MOST_IN_ADDRESS ? { ask: text } : {} })
}
async function begin(text: string) {
  statement.value = text
  await nextTick()
  editor.value?.focus()
  ask()
}
/** Put a name where the cursor is. */
async function put(name: string) {
  const field = editor.value
  const from = field?.selectionStart ?? statement.value.length
  const until = field?.selectionEnd ?? from
  statement.value = statement.value.slice(0, from) + name + statement.value.slice(until)
  await nextTick()
  field?.focus()
  field?.setSelectionRange(from + name.length, from + name.length)
}
function download() {
  file.mutate(answered.value, {
    onSuccess(blob) {
      if (!link.value) return
      const address = URL.createObjectURL(blob)
      link.value.href = address
      link.value.download = `run-${props.id}-answer.csv`
      link.value.click()
      setTimeout(() => URL.revokeObjectURL(address), 10_000)
    },
  })
}
onMounted(() => statement.value && ask())
</script>

<template>
  <div class="grid gap-8 lg:grid-cols-[2fr_1fr]">
    <div class="min-w-0">
      <h1 class="mb-1">
        <RouterLink :to="`/runs/${id}`">Run {{ id }}</RouterLink> in SQL
      </h1>
      <p class="label mb-2 break-words">
        {{ run.data.value?.experiment }}.
        <RouterLink :to="`/runs/${id}/requests`">Single requests</RouterLink> can be looked at
        without SQL too.
      </p>
      <label for="statement" class="sr-only">Statement</label>
      <textarea
        id="statement"
        ref="editor"
        v-model="statement"
        :rows="lines"
        spellcheck="false"
        autocomplete="off"
        class="field figures text-[13.5px]"
        placeholder="SELECT step, count(*) FROM steps GROUP BY step"
        @keydown.ctrl.enter.prevent="ask"
        @keydown.meta.enter.prevent="ask"
      />
      <div class="mt-2 flex flex-wrap items-center gap-3">
        <Action
          kind="primary"
          :busy="asked.isPending.value"
          :disabled="!statement.trim()"
          @click="ask"
        >
          {{ asked.isPending.value ? 'Asking …' : 'Ask' }}
        </Action>
        <span class="label"><kbd>Ctrl</kbd> <kbd>Enter</kbd></span>
        <span v-if="tables.data.value" class="label">
          It only reads; {{ given(tables.data.value.most_s) }} and
          {{ tables.data.value.most_mb }} MB are what a statement may take.
        </span>
      </div>
      <Problem
        v-if="asked.isError.value"
        class="figures mt-3 text-[13.5px] whitespace-pre-wrap"
        :error="asked.error.value"
      />

      <section
        v-else-if="answer"
        class="mt-4"
        aria-label="The answer"
        data-testid="answer"
        :class="asked.isPending.value ? 'opacity-60' : ''"
      >
        <p role="status" class="flex flex-wrap items-baseline gap-x-3">
          <span
            >{{ answer.more ? 'The first ' : '' }}{{ counted(answer.rows.length, 'row') }} in
            {{ seconds(answer.took_s) }}.</span
          >
          <span v-if="answered !== statement.trim()" class="label">
            Of the statement as it was asked; it has been changed since.
          </span>
          <button
            v-if="answer.rows.length"
            type="button"
            class="text-copper hover:underline"
            :disabled="file.isPending.value"
            @click="download"
          >
            {{ file.isPending.value ? 'Writing …' : answer.more ? 'All of them as CSV' : 'As CSV' }}
          </button>
          <a ref="link" class="hidden" aria-hidden="true" />
        </p>
        <Problem v-if="file.isError.value" :error="file.error.value" />
        <template v-if="drawn">
          <div v-if="numbers.length > 2" class="mt-2 flex flex-wrap items-end gap-3">
            <Choice
              :model-value="drawn.y"
              label="Drawn"
              class="w-44"
              :options="named(numbers.filter((name) => name !== drawn!.x))"
              @update:model-value="what = $event ?? ''"
            />
            <Choice
              :model-value="drawn.x"
              label="Along"
              class="w-44"
              :options="named(numbers)"
              @update:model-value="along = $event ?? ''"
            />
          </div>
          <AnswerRow class="mt-2" :drawn="drawn" />
        </template>
        <div v-if="answer.columns.length" class="mt-2 max-h-[32rem] overflow-auto">
          <table>
            <thead>
              <tr>
                <th
                  v-for="(column, i) in answer.columns"
                  :key="i"
                  class="sticky top-0 bg-paper whitespace-nowrap"
                  :title="column.kind"
                >
                  {{ column.name }}
                </th>
              </tr>
            </thead>
            <tbody class="figures">
              <tr v-for="(row, k) in answer.rows.slice(0, shown)" :key="k">
                <td
                  v-for="(value, i) in row"
                  :key="i"
                  class="max-w-80 break-words"
                  :class="typeof value === 'string' ? 'font-sans' : ''"
                >
                  {{ valueOf(answer.columns[i]?.name ?? '', value) }}
                </td>
              </tr>
            </tbody>
          </table>
        </div>
        <p v-if="answer.rows.length > shown" class="mt-1">
          <button type="button" class="text-copper hover:underline" @click="shown += 5 * SHOWN">
            Further rows
          </button>
          <span class="label ml-2"
            >{{ users(shown) }} of {{ users(answer.rows.length) }} shown</span
          >
        </p>
      </section>
      <p v-else class="mt-4 text-ink-2">
        Begin with one of the questions beside, or write your own: one statement that reads.
      </p>
    </div>

    <aside class="min-w-0 space-y-5 lg:max-h-[calc(100vh-6rem)] lg:overflow-y-auto">
      <Problem v-if="tables.isError.value" :error="tables.error.value" />
      <section v-if="tables.data.value" aria-label="Questions to begin with">
        <h2 class="mb-1">Questions to begin with</h2>
        <ul>
          <li v-for="one in tables.data.value.examples" :key="one.says">
            <button type="button" class="text-copper hover:underline" @click="begin(one.statement)">
              {{ one.says }}
            </button>
          </li>
        </ul>
      </section>
      <section v-if="tables.data.value" aria-label="What can be asked" data-testid="tables">
        <h2 class="mb-1">What can be asked</h2>
        <details v-for="table in tables.data.value.tables" :key="table.name" class="mb-1">
          <summary class="cursor-pointer">
            <code>{{ table.name }}</code> <span class="label">{{ table.says }}</span>
          </summary>
          <dl class="mt-1 mb-2 border-l border-rule pl-3 text-[13px]">
            <template v-for="column in table.columns" :key="column.name">
              <dt>
                <button
                  type="button"
                  class="figures text-copper hover:underline"
                  :title="`Put ${column.name} where the cursor is`"
                  @click="put(column.name)"
                >
                  {{ column.name }}
                </button>
                <span class="label ml-1">{{ column.kind.toLowerCase() }}</span>
              </dt>
              <dd class="mb-1 text-ink-2">{{ column.says }}</dd>
            </template>
          </dl>
        </details>
      </section>
      <Downloads v-if="run.data.value?.ended" :run="id" />
    </aside>
  </div>
</template>
