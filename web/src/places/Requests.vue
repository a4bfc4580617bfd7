<script setup lang="ts">
import { computed, ref, watch } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { useRun } from '@/api/queries'
import {
  PAGE,
  between,
  narrowOf,
  requestsOf,
  useRequests,
  type KindLine,
  type Line,
  type Narrow,
} from '@/api/requests'
import Action from '@/ui/Action.vue'
import Loading from '@/ui/Loading.vue'
import Problem from '@/ui/Problem.vue'
import { clock, counted, moment, seconds, users } from '@/ui/format'
import Asking from './requests/Asking.vue'
import Phases from './requests/Phases.vue'
import Times from './requests/Times.vue'
import VisitView from './requests/VisitView.vue'

/** The single requests of a run: a drawer of specimens, by a sentence; one taken out is shown with its whole visit. */
const props = defineProps<{ id: number }>()
const route = useRoute()
const router = useRouter()
const run = useRun(() => props.id)
const narrow = computed(() => narrowOf(route.query))
const requests = useRequests(() => props.id, narrow)
const found = computed(() => requests.data.value)
const opened = ref<Line | null>(null)
watch(narrow, () => (opened.value = null))
const noun = computed(() => (narrow.value.counting === 'requests' ? 'request' : 'step'))
const first = computed(() => Number(narrow.value.offset ?? 0))
const lines = computed(() => found.value?.lines ?? [])
const most = computed(() => Math.max(0, ...lines.value.map((line) => line.total_s)))
const live = computed(() => run.data.value !== undefined && !run.data.value.ended)
const rows = ref<HTMLElement | null>(null)
/** Where the window is narrow, what was opened stands above the table. */
const aside = ref<HTMLElement | null>(null)
watch(aside, (now) => now?.scrollIntoView({ block: 'nearest' }))

const ask = (next: Narrow) => void router.push(requestsOf(props.id, next))
function turn(by: number) {
  const offset = Math.max(0, first.value + by * PAGE)
  ask({ ...narrow.value, offset: offset ? String(offset) : '' })
}
function only(kind: KindLine) {
  ask({ ...narrow.value, by: '', offset: '', ...kind.narrow })
}
const same = (a: Line, b: Line | null) =>
  b !== null && a.start_us === b.start_us && a.user === b.user && a.part === b.part
/** Up and down the rows by arrow keys. */
function move(event: KeyboardEvent, by: number) {
  event.preventDefault()
  const all = [...(rows.value?.querySelectorAll<HTMLElement>('[data-row]') ?? [])]
  all[all.indexOf(event.currentTarget as HTMLElement) + by]?.focus()
}
</script>

<template>
  <div>
    <header class="mb-3 flex flex-wrap items-baseline gap-x-4">
      <h1 class="break-words">
        Requests of <RouterLink :to="`/runs/${id}`">run {{ id }}</RouterLink>
      </h1>
      <span v-if="run.data.value" class="label break-words">{{ run.data.value.experiment }}</span>
      <RouterLink class="ml-auto" :to="`/runs/${id}/sql`">Ask in SQL</RouterLink>
      <span v-if="live" class="label" role="status">
        It is under way; this is what there was at {{ clock(found?.until_s ?? 0) }}.
        <button type="button" class="text-copper hover:underline" @click="requests.refetch()">
          Look again
        </button>
      </span>
    </header>
    <Asking :key="route.fullPath" :narrow="narrow" :found="found" @ask="ask" />

    <Loading v-if="requests.isPending.value" what="the requests" />
    <Problem v-else-if="requests.isError.value" class="mt-4" :error="requests.error.value" />
    <p v-else-if="found && !found.recorded" class="py-12 text-ink-2" role="status">
      There are no single requests of this run: none was sent, it was played and not measured, or
      they are not kept any longer.
    </p>
    <div
      v-else-if="found"
      class="mt-3 grid gap-8"
      :class="opened ? 'lg:grid-cols-[3fr_2fr]' : ''"
      :aria-busy="requests.isFetching.value"
    >
      <div class="min-w-0" :class="requests.isPlaceholderData.value ? 'opacity-60' : ''">
        <p class="text-[17px]" role="status" data-testid="summary">
          <template v-if="!found.total">None of them.</template>
          <template v-else>
            {{ counted(found.total, noun)
            }}<template v-if="found.together?.errors"
              >, <span class="text-brick">{{ users(found.together.errors) }} failed</span></template
            ><template v-if="found.together?.p50_s != null"
              >: half within <span class="figures">{{ seconds(found.together.p50_s) }}</span>, 95 %
              within <span class="figures">{{ seconds(found.together.p95_s) }}</span>, 99 % within
              <span class="figures">{{ seconds(found.together.p99_s) }}</span>, mean
              <span class="figures">{{ seconds(found.together.mean_s) }}</span>, longest
              <span class="figures">{{ seconds(found.together.longest_s) }}</span></template
            >.
          </template>
        </p>
        <Times
          class="mt-2"
          :found="found"
          @choose="ask({ ...narrow, ...between(narrow, $event), offset: '' })"
        />

        <div v-if="found.by.length" class="mt-2 max-h-72 overflow-auto" data-testid="kinds">
          <table>
            <thead>
              <tr>
                <th>Together</th>
                <th>{{ noun === 'step' ? 'Steps' : 'Requests' }}</th>
                <th>Failed</th>
                <th>Mean</th>
                <th>50 %</th>
                <th>95 %</th>
                <th>99 %</th>
                <th>Longest</th>
              </tr>
            </thead>
            <tbody class="figures">
              <tr v-for="kind in found.by" :key="kind.kind">
                <td class="font-sans">
                  <button
                    v-if="Object.keys(kind.narrow).length"
                    type="button"
                    class="text-left text-copper hover:underline"
                    @click="only(kind)"
                  >
                    {{ kind.kind }}
                  </button>
                  <template v-else>{{ kind.kind }}</template>
                </td>
                <td>{{ users(kind.count) }}</td>
                <td :class="kind.errors ? 'text-brick' : ''">{{ users(kind.errors) }}</td>
                <td>{{ seconds(kind.mean_s) }}</td>
                <td>{{ seconds(kind.p50_s) }}</td>
                <td>{{ seconds(kind.p95_s) }}</td>
                <td>{{ seconds(kind.p99_s) }}</td>
                <td>{{ seconds(kind.longest_s) }}</td>
              </tr>
            </tbody>
          </table>
          <p v-if="found.kinds > found.by.length" class="label mt-1">
            The first {{ found.by.length }} of {{ users(found.kinds) }}.
          </p>
        </div>

        <div v-if="lines.length" ref="rows" class="mt-3 overflow-x-auto" data-testid="rows">
          <table>
            <thead>
              <tr>
                <th>At</th>
                <th>Step</th>
                <th>Answer</th>
                <th class="w-2/5">Its time</th>
                <th class="!pr-0 text-right">Took</th>
                <th v-if="!opened" class="!pr-0 text-right">First byte</th>
                <th v-if="!opened" class="!pr-0 text-right">User, visit</th>
              </tr>
            </thead>
            <tbody class="figures">
              <tr
                v-for="line in lines"
                :key="`${line.start_us} ${line.user} ${line.part} ${line.whole}`"
                data-row
                tabindex="0"
                class="cursor-pointer hover:bg-card"
                :class="same(line, opened) ? 'bg-card' : ''"
                :aria-selected="same(line, opened)"
                :aria-label="`${line.name} at ${moment(line.start_s)}, ${seconds(line.total_s)}`"
                @click="opened = line"
                @keydown.enter="opened = line"
                @keydown.space.prevent="opened = line"
                @keydown.down="move($event, 1)"
                @keydown.up="move($event, -1)"
                @keydown.escape="opened = null"
              >
                <td>{{ moment(line.start_s) }}</td>
                <td class="max-w-56 truncate font-sans" :title="`${line.journey}: ${line.name}`">
                  {{ line.name }}<span v-if="line.part" class="label"> part {{ line.part }}</span>
                </td>
                <td class="whitespace-nowrap" :class="line.error ? 'text-brick' : ''">
                  {{ line.error || line.status
                  }}<span v-if="line.texts" class="label" title="Headers and body are kept"> ¶</span
                  ><span
                    v-if="line.traced"
                    class="label"
                    title="Its way through the system is kept"
                  >
                    ↳</span
                  >
                </td>
                <td class="!pt-2"><Phases :line="line" :most="most" /></td>
                <td class="!pr-0 text-right">{{ seconds(line.total_s) }}</td>
                <td v-if="!opened" class="!pr-0 text-right">
                  {{ line.whole ? '–' : seconds(line.first_byte_s) }}
                </td>
                <td v-if="!opened" class="!pr-0 text-right">{{ line.user }}, {{ line.visit }}</td>
              </tr>
            </tbody>
          </table>
          <p class="mt-2 flex flex-wrap items-baseline gap-3">
            <Action :disabled="!first" @click="turn(-1)">Before</Action>
            <Action :disabled="first + lines.length >= found.total" @click="turn(1)"
              >Further</Action
            >
            <span class="label">
              {{ users(first + 1) }} to {{ users(first + lines.length) }} of
              {{ users(found.total) }}; ¶ headers and body are kept, ↳ its way through the system.
              Enter opens a row.
            </span>
          </p>
        </div>
      </div>
      <aside
        v-if="opened"
        ref="aside"
        class="order-first min-w-0 scroll-mt-4 lg:order-last lg:sticky lg:top-4 lg:max-h-[calc(100vh-2rem)] lg:self-start lg:overflow-y-auto"
      >
        <VisitView :id="id" :line="opened" @choose="opened = $event" @close="opened = null" />
      </aside>
    </div>
  </div>
</template>
