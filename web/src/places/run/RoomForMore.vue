<script setup lang="ts">
import { computed, ref } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { askedIn, told, useMoreUsers, USUAL, type AskedIndex } from '@/api/moreUsers'
import { asProblem } from '@/api/problem'
import Choice from '@/ui/Choice.vue'
import Field from '@/ui/Field.vue'
import Grade from '@/ui/Grade.vue'
import Loading from '@/ui/Loading.vue'
import Sentence from '@/ui/Sentence.vue'
import { figure, loadFigure } from '@/ui/format'
import IndexRow from './IndexRow.vue'

/** For how many more users there is room: an index of how it feels to be one, against a limit that one types. What is
 * asked stands in the address. */
const props = defineProps<{ run: number; of: string }>()
const route = useRoute()
const router = useRouter()
const inAddress = askedIn(route.query.room)
const open = ref(inAddress !== undefined)
const asked = ref<AskedIndex>(inAddress ?? USUAL.slowdown)
const found = useMoreUsers(
  () => props.run,
  asked,
  open,
  () => props.of,
)
const answer = computed(() => (found.isError.value ? undefined : found.data.value))
const problem = computed(() => (found.isError.value ? asProblem(found.error.value) : undefined))
const fault = computed(() => problem.value?.problems.find((one) => one.path === 'limit'))
const KINDS = [
  { value: 'slowdown', text: 'How many times as slow' },
  { value: 'apdex', text: 'Apdex score' },
]

function ask(change: Partial<AskedIndex>) {
  asked.value = { ...asked.value, ...change }
  void router.replace({ query: { ...route.query, room: told(asked.value) } })
}
const kind = computed({
  get: () => asked.value.index,
  set: (index: string | undefined) => ask(USUAL[(index ?? 'slowdown') as AskedIndex['index']]),
})
const number = (name: 'limit' | 'target_s') =>
  computed({
    get: () => asked.value[name],
    set: (given: string | number | undefined) => {
      if (given !== undefined) ask({ [name]: Number(given) })
    },
  })
const limit = number('limit')
const target = number('target_s')
const worth = (value: number) =>
  asked.value.index === 'slowdown' ? `${figure(value)} ×` : value.toFixed(2)
</script>

<template>
  <details
    class="mt-3"
    data-testid="more-users"
    :open="open"
    @toggle="open = ($event.target as HTMLDetailsElement).open"
  >
    <summary class="label cursor-pointer">Room for more users?</summary>
    <div v-if="open" class="mt-2 space-y-3">
      <div class="flex flex-wrap items-start gap-3">
        <Choice v-model="kind" class="w-56" label="How it feels, as" :options="KINDS" />
        <Field
          v-model="limit"
          class="w-40"
          type="number"
          :label="asked.index === 'slowdown' ? 'At most so many times' : 'At least this score'"
          :fault="fault"
        />
        <Field
          v-if="asked.index === 'apdex'"
          v-model="target"
          class="w-40"
          type="number"
          label="Satisfied within (s)"
        />
      </div>
      <p class="label">
        <template v-if="asked.index === 'slowdown'">
          The mean response of every step over its own at the lowest level, and of these the
          geometric mean: each step counts alike.
        </template>
        <template v-else>
          Of all answers those within the time count one, those within four times it a half, later
          ones and failures nothing.
        </template>
      </p>
      <Loading v-if="found.isPending.value" what="how it feels" />
      <p v-else-if="problem && !fault" class="label" role="status">{{ problem.detail }}</p>
      <div v-else-if="answer" class="space-y-2">
        <div data-testid="more-users-answer" role="status">
          <p class="flex gap-2 text-[15.5px] font-semibold">
            <Grade :grade="answer.note.grade" wordless />
            <span>{{ answer.note.title }}</span>
          </p>
          <p><Sentence :text="answer.note.text" /></p>
        </div>
        <IndexRow :found="answer" />
        <p v-if="answer.left_out.length" class="label break-words">
          With too few answers at a level, and left out: {{ answer.left_out.join(', ') }}.
        </p>
        <details>
          <summary class="label cursor-pointer">Table of the index</summary>
          <table class="mt-1">
            <thead>
              <tr>
                <th>Level</th>
                <th>{{ answer.unit }}</th>
                <th>Index</th>
                <th>90 % interval</th>
              </tr>
            </thead>
            <tbody class="figures">
              <tr v-for="level in answer.levels" :key="level.level">
                <td>{{ level.level }}</td>
                <td>{{ loadFigure(level.load) }}</td>
                <td>{{ worth(level.value) }}</td>
                <td>{{ worth(level.low) }} to {{ worth(level.high) }}</td>
              </tr>
            </tbody>
          </table>
        </details>
      </div>
    </div>
  </details>
</template>
