<script setup lang="ts">
import { computed, ref, watch } from 'vue'
import type { Shown } from '@/api/livePlate'
import { requestsOf } from '@/api/requests'
import { useLife, useLives } from '@/api/lives'
import { laneHeight, pixels } from '@/plates/weave'
import Problem from '@/ui/Problem.vue'
import { clock, counted, seconds, users } from '@/ui/format'
import { tokens } from '@/ui/theme'

/** What the people on the system do: all together, and each in a lane. */
const props = defineProps<{ id: number; shown: Shown; live: boolean }>()
const LONGEST_S = 120

const open = ref(false)
const canvas = ref<HTMLCanvasElement | null>(null)
/** The stretch that is looked at where it can be woven, else the last minute. */
const piece = computed(() => {
  const { from_s, until_s } = props.shown
  return until_s && until_s - from_s <= LONGEST_S ? { from_s, until_s } : { from_s: 0, until_s: 0 }
})
const lives = useLives(() => props.id, piece, { live: () => props.live, when: open })
const woven = computed(() => lives.data.value)
const states = computed(() => woven.value?.states ?? null)
const user = ref<number | null>(null)
const at = ref<{ lane: number; t: number } | null>(null)
/** The lane of the chosen user: others come and go, and move it. */
const chosen = computed(() => {
  const lane = user.value === null ? -1 : (woven.value?.users.indexOf(user.value) ?? -1)
  return lane < 0 ? null : lane
})
const seen = computed(() =>
  woven.value ? { from_s: woven.value.from_s, until_s: woven.value.until_s } : piece.value,
)
const opened = ref<{ user: number; from_s: number; until_s: number } | null>(null)
const life = useLife(
  () => props.id,
  () => opened.value?.user ?? null,
  () => ({ from_s: opened.value?.from_s ?? 0, until_s: opened.value?.until_s ?? 0 }),
)
const height = computed(() => {
  const lanes = woven.value?.users.length ?? 0
  return Math.max(12, Math.round(lanes * laneHeight(lanes)))
})

function draw() {
  const found = woven.value
  const context = canvas.value?.getContext('2d')
  if (!found?.users.length || !canvas.value || !context) return
  canvas.value.width = found.bins
  canvas.value.height = found.users.length
  const drawn = pixels(found.cells, tokens.value.ink, tokens.value.brick)
  context.putImageData(new ImageData(drawn, found.bins, found.users.length), 0, 0)
}
watch([woven, canvas, tokens], draw, { flush: 'post' })

function place(event: PointerEvent | MouseEvent) {
  const found = woven.value
  const box = canvas.value?.getBoundingClientRect()
  if (!found?.users.length || !box) return null
  const share = (event.clientX - box.left) / Math.max(1, box.width)
  const lane = Math.floor(
    ((event.clientY - box.top) / Math.max(1, box.height)) * found.users.length,
  )
  return {
    lane: Math.min(found.users.length - 1, Math.max(0, lane)),
    t: found.from_s + share * (found.until_s - found.from_s),
  }
}
function choose(event: MouseEvent) {
  const here = place(event)
  if (!here) return
  user.value = woven.value?.users[here.lane] ?? null
  show()
}
function show() {
  if (user.value !== null) opened.value = { user: user.value, ...seen.value }
}
const STEPS: Record<string, number> = { ArrowUp: -1, ArrowDown: 1, PageUp: -10, PageDown: 10 }
function key(event: KeyboardEvent) {
  const lanes = woven.value?.users.length ?? 0
  const by = STEPS[event.key]
  if (by !== undefined && lanes) {
    event.preventDefault()
    const lane = Math.min(lanes - 1, Math.max(0, (chosen.value ?? -1) + by))
    user.value = woven.value?.users[lane] ?? null
  } else if (event.key === 'Enter') show()
}
const inSteps = computed(() => states.value?.steps.filter((one) => one.count) ?? [])
</script>

<template>
  <details
    class="mt-3"
    data-testid="people"
    @toggle="open = ($event.target as HTMLDetailsElement).open"
  >
    <summary class="label cursor-pointer">People on the system</summary>
    <Problem v-if="lives.isError.value" :error="lives.error.value" />
    <p v-else-if="lives.isPending.value && open" class="text-ink-2" role="status">
      Reading what each did …
    </p>
    <div v-if="woven" class="mt-2 space-y-2">
      <p v-if="states && live" data-testid="states">
        At {{ clock(states.at_s) }}: {{ users(states.present) }} there,
        {{ users(states.waiting) }} waiting for an answer, {{ users(states.thinking) }} thinking,
        {{ users(states.overdue) }} overdue at the generators<template v-if="states.leaving >= 1"
          >, {{ users(states.leaving) }} on their way out</template
        >.
        <span v-if="inSteps.length" class="label">
          In a step: {{ inSteps.map((one) => `${one.name} ${users(one.count)}`).join(', ') }}.
        </span>
      </p>
      <template v-if="woven.users.length">
        <p class="label">
          {{ clock(woven.from_s) }} to {{ clock(woven.until_s) }}, a lane each:
          {{
            woven.users.length < woven.there
              ? `${users(woven.users.length)} of ${counted(woven.there, 'user')}, evenly chosen`
              : counted(woven.there, 'user')
          }}; ink is waiting, blank thinking, brick a step that failed ({{
            counted(woven.failed, 'user')
          }}
          had one). What is not answered yet is not drawn.
        </p>
        <div class="relative">
          <canvas
            ref="canvas"
            class="block w-full cursor-pointer rounded-sm border border-rule bg-card [image-rendering:pixelated]"
            :style="{ height: `${height}px` }"
            tabindex="0"
            role="img"
            :aria-label="`Lanes of ${woven.users.length} users; arrow keys choose one, Enter shows its requests`"
            @pointermove="at = place($event)"
            @pointerleave="at = null"
            @click="choose"
            @keydown="key"
          />
          <div
            v-if="chosen !== null"
            class="pointer-events-none absolute inset-x-0 border-y border-copper"
            :style="{
              top: `${(chosen / woven.users.length) * height}px`,
              height: `${Math.max(2, height / woven.users.length)}px`,
            }"
          />
        </div>
        <p class="figures text-[13.5px]" role="status">
          <template v-if="at">User {{ woven.users[at.lane] }} at {{ clock(at.t) }}</template>
          <template v-else-if="user !== null">User {{ user }}: Enter shows its requests</template>
          <template v-else>Point at a lane, or click it to see that user's requests</template>
        </p>
      </template>
      <p v-else class="text-ink-2">
        There are no single requests of this stretch: none was made, or they are not kept.
      </p>
      <div v-if="opened" data-testid="life">
        <p class="flex flex-wrap items-baseline gap-x-3">
          <strong>User {{ opened.user }}</strong>
          <span class="label">{{ clock(opened.from_s) }} to {{ clock(opened.until_s) }}</span>
          <RouterLink :to="requestsOf(id, { ...opened, order: 'first', counting: 'requests' })"
            >One by one</RouterLink
          >
          <button type="button" class="label hover:text-ink" @click="opened = null">Close</button>
        </p>
        <Problem v-if="life.isError.value" :error="life.error.value" />
        <p v-else-if="life.data.value && !life.data.value.length" class="text-ink-2">
          Nothing was answered in this stretch.
        </p>
        <div v-else-if="life.data.value" class="max-h-72 overflow-auto">
          <table>
            <thead>
              <tr>
                <th>At</th>
                <th>Step</th>
                <th>Part</th>
                <th>Answer</th>
                <th>First byte</th>
                <th>Whole</th>
              </tr>
            </thead>
            <tbody class="figures">
              <tr v-for="(one, i) in life.data.value" :key="i">
                <td>{{ one.start_s.toFixed(2) }} s</td>
                <td class="font-sans">{{ one.step }}</td>
                <td>{{ one.part || '' }}</td>
                <td :class="one.error ? 'text-brick' : ''">{{ one.error || one.status }}</td>
                <td>{{ seconds(one.first_byte_s) }}</td>
                <td>{{ seconds(one.total_s) }}</td>
              </tr>
            </tbody>
          </table>
        </div>
      </div>
    </div>
  </details>
</template>
