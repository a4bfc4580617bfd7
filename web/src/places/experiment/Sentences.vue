<script setup lang="ts">
import { Menu, MenuButton, MenuItem, MenuItems } from '@headlessui/vue'
import { computed, nextTick, ref } from 'vue'
import type { Path } from '@/ui/yamlText'
import SentenceLine from './SentenceLine.vue'
import { begun, VERBS, type Drawn, type Sentence, type Unit, type Verb } from './load'
import { pathText, usePlan } from './plan'
import { VERB_WORDS } from './words'

/** The load of one group: a sentence a line. */
const props = defineProps<{
  sentences: Sentence[]
  lines: Drawn[]
  unit: Unit
  path: Path
  chosen: number | null
}>()
const emit = defineEmits<{ choose: [index: number]; point: [index: number | null] }>()
const plan = usePlan()
const list = ref<HTMLElement | null>(null)
const button = ref<{ $el: HTMLElement }[]>([])
/** Where the next sentence goes: after this one. */
const after = ref<number | null>(null)
const place = computed(() => Math.min(after.value ?? Infinity, props.sentences.length - 1))
const USERS_ONLY: Verb[] = ['gather', 'search']
const verbs = computed(() =>
  VERBS.filter((verb) => props.unit === 'users' || !USERS_ONLY.includes(verb)),
)

function faultOf(index: number, field: string): string | undefined {
  const sentence = props.sentences[index] ?? {}
  const here = pathText([...props.path, index])
  const inside = Object.keys(sentence)[0] ?? ''
  const found = field
    ? plan.faultAt(`${here}.${inside}.${field}`)
    : (plan.faultAt(here) ?? plan.faultAt(`${here}.${inside}`) ?? plan.faultBelow(`${here}.`))
  return found && `${found.message} ${found.mend}`
}
/** Everything said to be wrong with a sentence, as one text. */
function told(index: number): string {
  const here = pathText([...props.path, index])
  return plan.faultsBelow(here)
}
async function enter(index: number) {
  await nextTick()
  const row = list.value?.querySelectorAll<HTMLElement>('[data-testid=sentence]')[index]
  row?.querySelector('input')?.focus()
}
function change(index: number, sentence: Sentence) {
  plan.set([...props.path, index], sentence)
  plan.commit()
}
async function add(verb: Verb) {
  const made = begun(verb, Math.max(0, ...props.lines.map((line) => line.end)), props.unit)
  // A search leads the whole load, or does not.
  if (verb === 'search' || props.lines.some((line) => line.open)) {
    plan.set(props.path, [verb === 'search' ? made : begun(verb, 0, props.unit)])
    plan.commit()
    return enter(0)
  }
  const at = place.value + 1
  plan.insert(props.path, at, begun(verb, props.lines[place.value]?.end ?? 0, props.unit))
  after.value = null
  plan.commit()
  await enter(at)
}
async function then(index: number) {
  after.value = index
  await nextTick()
  button.value[0]?.$el.focus()
  button.value[0]?.$el.click()
}
async function replace(index: number, made: Sentence[], count: number) {
  plan.set([...props.path, index], made[0])
  if (made[1]) plan.insert(props.path, index + 1, made[1])
  else if (count === 2) plan.remove(props.path, index + 1)
  plan.commit()
  await enter(index)
}
async function remove(index: number) {
  plan.remove(props.path, index)
  plan.commit()
  await enter(Math.min(index, props.sentences.length - 2))
}
async function move(index: number, by: number) {
  plan.move(props.path, index, index + by)
  plan.commit()
  await enter(index + by)
}
</script>

<template>
  <ol ref="list" class="-ml-2.5">
    <SentenceLine
      v-for="(sentence, i) in sentences"
      :key="i"
      v-memo="[
        sentence,
        sentences[i + 1],
        lines[i]!.at_s,
        lines[i]!.level,
        lines[i]!.end,
        lines[i]!.seconds,
        i === sentences.length - 1,
        i === place,
        chosen === i,
        unit,
        plan.fixed.value,
        told(i),
      ]"
      :sentence="sentence"
      :line="lines[i]!"
      :unit="unit"
      :first="i === 0"
      :last="i === sentences.length - 1"
      :next="sentences[i + 1]"
      :chosen="chosen === i"
      :fixed="plan.fixed.value"
      :fault-of="(field: string) => faultOf(i, field)"
      @change="change(i, $event)"
      @replace="(made, count) => replace(i, made, count)"
      @remove="remove(i)"
      @move="move(i, $event)"
      @then="then(i)"
      @choose="emit('choose', i)"
      @point="emit('point', $event ? i : null)"
    >
      <template v-if="i === place && !plan.fixed.value" #after>
        <Menu as="div" class="relative inline-block">
          <MenuButton ref="button" class="text-copper hover:underline">
            {{
              lines[i]!.open
                ? 'Plan it instead …'
                : i < sentences.length - 1
                  ? 'Then, in between …'
                  : 'Then …'
            }}
          </MenuButton>
          <MenuItems
            class="absolute left-0 z-20 mt-1 w-80 rounded border border-rule bg-card py-1 shadow-lg"
          >
            <MenuItem v-for="verb in verbs" :key="verb" v-slot="{ active }">
              <button
                type="button"
                class="flex w-full gap-2 px-3 py-1 text-left"
                :class="{ 'bg-paper': active }"
                @click="add(verb)"
              >
                <span class="w-16 font-semibold">{{ VERB_WORDS[verb].name }}</span>
                <span class="text-ink-2">{{ VERB_WORDS[verb].says }}</span>
              </button>
            </MenuItem>
          </MenuItems>
        </Menu>
        <span class="label ml-3">Enter in a sentence does the same</span>
      </template>
    </SentenceLine>
  </ol>
</template>
