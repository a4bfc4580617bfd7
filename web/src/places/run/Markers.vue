<script setup lang="ts">
import { nextTick, ref } from 'vue'
import type { Schemas } from '@/api/client'
import { usePutMarker, useTakeMarkerAway, type Mark } from '@/api/markers'
import Action from '@/ui/Action.vue'
import Problem from '@/ui/Problem.vue'
import { clock } from '@/ui/format'
import { useRole } from '@/ui/role'
import { useShortcuts } from '@/ui/shortcuts'
import { momentOf } from './moments'

/** What people and programs say happened in the run. */
const props = defineProps<{
  run: Schemas['RunDetail']
  live: boolean
  /** The moment that is pointed at, or looked at. */
  here: number | null
}>()
defineEmits<{ look: [number] }>()
type Line = Schemas['MarkerLine']

const { may } = useRole()
const put = usePutMarker(props.run.id)
const away = useTakeMarkerAway(props.run.id)
const writing = ref<Mark | null>(null)
const moment = ref('')
const gone = ref<Line | null>(null)
const form = ref<HTMLElement | null>(null)
const wrong = ref('')

async function write(marker?: Line) {
  if (!may('planner')) return
  put.reset()
  wrong.value = ''
  const at = marker?.at_s ?? props.here
  writing.value = { ...(marker ? { id: marker.id } : {}), text: marker?.text ?? '', at_s: at }
  moment.value = at === null ? (props.live ? 'now' : '') : clock(at)
  await nextTick()
  form.value?.querySelector('input')?.focus()
}
function save() {
  const mark = writing.value
  if (!mark) return
  const now = props.live && ['', 'now'].includes(moment.value.trim())
  // A moment that was not touched keeps its fractions of a second.
  const same = mark.at_s !== null && moment.value === clock(mark.at_s)
  const at = now ? null : same ? mark.at_s : momentOf(moment.value)
  if (!now && at === null) {
    wrong.value = `${moment.value || 'Nothing'} is no moment of the run: write it as minutes and seconds, such as 2:30.`
    return
  }
  wrong.value = ''
  put.mutate({ ...mark, at_s: at }, { onSuccess: () => (writing.value = null) })
}
function takeAway(marker: Line) {
  away.mutate(marker.id, { onSuccess: () => (gone.value = marker) })
}
function back() {
  const marker = gone.value
  if (marker)
    put.mutate({ text: marker.text, at_s: marker.at_s }, { onSuccess: () => (gone.value = null) })
}
useShortcuts([{ keys: 'M', says: 'Put a marker here', act: () => void write() }])
</script>

<template>
  <section class="space-y-2 border-t border-rule pt-2" data-testid="markers">
    <div class="flex items-baseline justify-between gap-2">
      <h2 class="text-[15.5px]">Markers</h2>
      <Action v-if="!writing" needs="planner" class="!px-2 !py-0.5" @click="write()">
        Put a marker <kbd>M</kbd>
      </Action>
    </div>
    <p v-if="!run.markers.length && !writing" class="text-ink-2">
      Nothing is marked. What happened meanwhile, a deployment for example, stands on the plate once
      somebody says it.
    </p>
    <ul v-if="run.markers.length" class="max-h-72 space-y-1 overflow-y-auto">
      <li v-for="marker in run.markers" :key="marker.id" class="group flex items-baseline gap-2">
        <button
          type="button"
          class="figures whitespace-nowrap text-copper hover:underline"
          :aria-label="`Look at ${clock(marker.at_s)}`"
          @click="$emit('look', marker.at_s)"
        >
          ⚑ {{ clock(marker.at_s) }}
        </button>
        <span class="min-w-0 grow break-words"
          >{{ marker.text }} <span class="label">{{ marker.who }}</span></span
        >
        <span v-if="may('planner')" class="label whitespace-nowrap">
          <button type="button" class="hover:text-ink" @click="write(marker)">Change</button> ·
          <button type="button" class="hover:text-ink" @click="takeAway(marker)">Take away</button>
        </span>
      </li>
    </ul>
    <p v-if="gone" class="label" role="status">
      “{{ gone.text }}” is taken away.
      <button type="button" class="text-copper hover:underline" @click="back">Undo</button>
    </p>
    <form
      v-if="writing"
      ref="form"
      class="grid grid-cols-[1fr_5rem] gap-2"
      @submit.prevent="save"
      @keydown.esc.stop="writing = null"
    >
      <input
        v-model="writing.text"
        class="field"
        aria-label="What happened"
        placeholder="what happened"
        maxlength="300"
      />
      <input v-model="moment" class="field figures" aria-label="At, in minutes and seconds" />
      <p v-if="wrong" class="col-span-2 text-brick" role="alert">✕ {{ wrong }}</p>
      <div class="col-span-2 flex gap-2">
        <Action
          kind="primary"
          :busy="put.isPending.value"
          :disabled="!writing.text.trim()"
          @click="save"
          >{{ writing.id === undefined ? 'Mark it' : 'Change it' }}</Action
        >
        <Action @click="writing = null">Leave it</Action>
      </div>
      <!-- Enter in a field sends a form only where it has a way to. -->
      <button type="submit" class="hidden" />
    </form>
    <Problem
      v-for="one in [put, away].filter((m) => m.isError.value)"
      :key="String(one.error.value)"
      :error="one.error.value"
    />
  </section>
</template>
