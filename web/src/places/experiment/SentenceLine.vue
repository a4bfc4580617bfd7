<script setup lang="ts">
import { Menu, MenuButton, MenuItem, MenuItems } from '@headlessui/vue'
import { computed } from 'vue'
import Value from '@/ui/Value.vue'
import { clock } from '@/ui/format'
import { fieldsOf, joined, split, verbOf, type Drawn, type Sentence, type Unit } from './load'
import {
  secondsOf,
  steppedDuration,
  steppedShare,
  typedAmount,
  typedDuration,
  typedShare,
} from './quantities'
import { isSlot, isTurn, wordsOf, type Slot } from './words'

/** One sentence of a load: its values are edited in place. */
const props = defineProps<{
  sentence: Sentence
  line: Drawn
  unit: Unit
  first: boolean
  next: Sentence | undefined
  last: boolean
  chosen: boolean
  fixed: boolean
  faultOf: (field: string) => string | undefined
}>()
const emit = defineEmits<{
  change: [sentence: Sentence]
  replace: [sentences: Sentence[], count: number]
  remove: []
  move: [by: number]
  then: []
  choose: []
  point: [pointed: boolean]
}>()
const words = computed(() => wordsOf(props.sentence, props.line.level, props.unit, props.first))
const halves = computed(() => split(props.sentence, props.line.level, props.unit))
const together = computed(() =>
  props.next ? joined(props.sentence, props.next, props.line.level, props.unit) : null,
)
const fault = computed(() => props.faultOf(''))

function valueOf(slot: Slot): unknown {
  return slot.field ? fieldsOf(props.sentence)[slot.field] : props.sentence.wait
}
function take(slot: Slot, value: unknown) {
  const verb = verbOf(props.sentence)
  if (!verb) return
  if (!slot.field) return emit('change', { [verb]: value })
  const fields = { ...fieldsOf(props.sentence) }
  // "until 8 min" means for so long.
  if (verb === 'climb' && slot.field === 'to' && secondsOf(value) !== null) {
    delete fields.to
    return emit('change', { climb: { ...fields, for: value } })
  }
  if (value === '' || value === undefined) delete fields[slot.field]
  else fields[slot.field] = value
  emit('change', { [verb]: fields })
}
const stepAmount = (value: unknown, by: number) => {
  const now = Number(value) || 0
  const next = now + by
  return props.line && next < 0 && verbOf(props.sentence) !== 'jump' ? 0 : Number(next.toFixed(6))
}
const PARSERS = { amount: typedAmount, time: typedDuration, share: typedShare }
const steppers = { amount: stepAmount, time: steppedDuration, share: steppedShare }
const actions = computed(() => [
  { text: 'Split in two', keys: 'Alt Enter', may: Boolean(halves.value), act: divide },
  { text: 'Join with the next', keys: 'Alt J', may: Boolean(together.value), act: unite },
  { text: 'Move up', keys: 'Alt ↑', may: !props.first, act: () => emit('move', -1) },
  { text: 'Move down', keys: 'Alt ↓', may: !props.last, act: () => emit('move', 1) },
  {
    text: 'Remove',
    keys: 'Alt Delete',
    may: !(props.first && props.last),
    act: () => emit('remove'),
  },
])
function divide() {
  if (halves.value) emit('replace', halves.value, 1)
}
function unite() {
  if (together.value) emit('replace', [together.value], 2)
}
const KEYS: Record<string, number> = { Enter: 0, j: 1, J: 1, ArrowUp: 2, ArrowDown: 3, Delete: 4 }
function key(event: KeyboardEvent) {
  const action = event.altKey ? actions.value[KEYS[event.key] ?? -1] : undefined
  if (!action || props.fixed) return
  event.preventDefault()
  event.stopPropagation()
  // What is typed belongs to this sentence, wherever it goes.
  ;(event.target as HTMLElement).blur()
  if (action.may) action.act()
}
</script>

<template>
  <li
    class="group grid grid-cols-[3.6rem_1fr_auto] items-baseline gap-x-2 border-l-2 py-1 pl-2"
    :class="chosen ? 'border-copper bg-card' : 'border-transparent'"
    data-testid="sentence"
    @focusin="$emit('choose')"
    @pointerenter="$emit('point', true)"
    @pointerleave="$emit('point', false)"
    @keydown.capture="key"
  >
    <span class="label figures" :title="`Begins at ${clock(line.at_s)} (min:s)`">{{
      clock(line.at_s)
    }}</span>
    <span class="min-w-0 leading-8">
      <template v-for="(piece, i) in words" :key="i">
        <Value
          v-if="isSlot(piece)"
          :label="piece.label"
          :value="valueOf(piece)"
          :parse="PARSERS[piece.kind]"
          :step="steppers[piece.kind]"
          :fault="faultOf(piece.field)"
          :disabled="fixed"
          @take="take(piece, $event)"
          @next="$emit('then')"
        />
        <button
          v-else-if="isTurn(piece)"
          type="button"
          class="border-b border-dotted border-ink-2"
          :title="piece.says"
          :disabled="fixed"
          @click="$emit('change', piece.to)"
        >
          {{ piece.text }}
        </button>
        <template v-else>{{ piece }}</template>
        {{ ' ' }}
      </template>
      <span v-if="fault" class="block text-[13px] leading-tight text-brick" role="alert"
        >✕ {{ fault }}</span
      >
    </span>
    <Menu v-if="!fixed" as="div" class="relative">
      <MenuButton
        class="label px-2 opacity-60 group-hover:opacity-100 focus:opacity-100 hover:text-ink"
        aria-label="What to do with this sentence"
        >⋯</MenuButton
      >
      <MenuItems
        class="absolute right-0 z-20 mt-1 w-60 rounded border border-rule bg-card py-1 shadow-lg"
      >
        <MenuItem
          v-for="action in actions"
          :key="action.text"
          v-slot="{ active }"
          :disabled="!action.may"
        >
          <button
            type="button"
            class="flex w-full justify-between px-3 py-1 text-left disabled:opacity-40"
            :class="{ 'bg-paper': active }"
            :disabled="!action.may"
            @click="action.act"
          >
            {{ action.text }} <kbd>{{ action.keys }}</kbd>
          </button>
        </MenuItem>
      </MenuItems>
    </Menu>
    <div v-if="$slots.after" class="col-span-full py-1 pl-[4rem]"><slot name="after" /></div>
  </li>
</template>
