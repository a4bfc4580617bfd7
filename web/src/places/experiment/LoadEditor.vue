<script setup lang="ts">
import { computed, ref } from 'vue'
import { useForecast, type PlanOutline } from '@/api/experiments'
import Terrain from '@/plates/Terrain.vue'
import Action from '@/ui/Action.vue'
import Choice from '@/ui/Choice.vue'
import Field from '@/ui/Field.vue'
import { amount, given, loadFigure, users } from '@/ui/format'
import GroupForm from './GroupForm.vue'
import Sentences from './Sentences.vue'
import { asGroups, chaptersOf, EVERYONE, inUnit, type Chapter } from './groups'
import { areaOf, dragged, peakOf, pointsOf, secondsIn } from './load'
import { pathText, usePlan } from './plan'
import { stacked } from '@/plates/terrain'

/** The load: sentences and their picture, one and the same thing. */
const props = defineProps<{ id: number; revision: number | undefined; outline: PlanOutline }>()
const forecast = useForecast(props.id, () => props.revision)
const source = defineModel<string>({ required: true })
const plan = usePlan()
const chapters = computed(() => chaptersOf(plan.data.value ?? {}))
const active = ref(0)
const chosen = ref<number | null>(null)
const pointed = ref<number | null>(null)
const shown = computed(() => Math.min(active.value, chapters.value.length - 1))
const weights = computed(() =>
  Object.fromEntries(props.outline.journeys.map((j) => [j.name, j.share])),
)
const journeys = computed(
  () => plan.data.value?.journeys?.map((j) => String(j.journey ?? j.name ?? '')) ?? [],
)

function choose(chapter: number, index: number) {
  active.value = chapter
  chosen.value = index
}
function drag(index: number, to: { load?: number; seconds?: number }) {
  const chapter = chapters.value[shown.value]
  const [sentence, line] = [chapter?.sentences[index], chapter?.lines[index]]
  if (chapter && sentence && line)
    plan.set([...chapter.path, index], dragged(sentence, line, chapter.unit, to))
}

const totals = computed(() => {
  const all = chapters.value
  const seconds = Math.max(0, ...all.map((c) => secondsIn(c.lines)))
  const byUsers = all.filter((c) => c.unit === 'users')
  const peak = Math.max(
    0,
    ...stacked(byUsers.map((c) => ({ name: c.name, points: pointsOf(c.lines) }))).flatMap((l) =>
      l.edges.map((e) => e.high),
    ),
  )
  const rate = all.filter((c) => c.unit === 'rate').reduce((sum, c) => sum + peakOf(c.lines), 0)
  const minutes = byUsers.reduce((sum, c) => sum + areaOf(c.lines), 0) / 60
  const arrivals = all.reduce((sum, c) => sum + (c.unit === 'rate' ? areaOf(c.lines) : 0), 0)
  let steps: number | null = 0
  for (const c of all) {
    const pace = props.outline.paces.find((p) => p.name === c.name)
    const each = c.unit === 'rate' ? pace?.per_arrival : pace?.per_user_s
    steps = steps === null || each == null ? null : steps + areaOf(c.lines) * each
  }
  return { seconds, peak, rate, minutes, arrivals, steps }
})
const rough = (count: number) => users(Number(count.toPrecision(2)))
/** How much so many steps move, where a run has told it. */
function moved(steps: number): string {
  const seen = forecast.data.value?.traffic
  if (!seen) return ''
  const volume = amount(Number((steps * seen.bytes_per_step).toPrecision(2)), 'B')
  return ` (${rough(steps * seen.requests_per_step)} requests and ${volume}, as steps were in run ${seen.run})`
}
const sentence = computed(() => {
  const t = totals.value
  if (chapters.value.some((c) => c.lines.some((line) => line.open)))
    return `At most ${given(Number(t.seconds.toFixed(3)))} and ${users(t.peak)} users: each level is chosen by what the run has shown.`
  const parts = [given(Number(t.seconds.toFixed(3)))]
  if (t.peak) parts.push(`at most ${users(t.peak)} users`)
  if (t.rate) parts.push(`at most ${loadFigure(t.rate)} arrivals per s`)
  if (t.minutes) parts.push(`${users(t.minutes)} user-minutes`)
  if (t.arrivals) parts.push(`${users(t.arrivals)} arrivals`)
  if (t.steps) parts.push(`up to ${rough(t.steps)} steps if answers took no time${moved(t.steps)}`)
  return `${parts.join(', ')}.`
})

function freeName(): string {
  const names = new Set(chapters.value.map((c) => c.name))
  let number = chapters.value.length + 1
  while (names.has(`group ${number}`)) number += 1
  return `group ${number}`
}
function addGroup() {
  const group = { name: freeName(), users: [{ hold: { users: 10, for: '1 min' } }] }
  if (!plan.data.value?.groups) {
    const made = asGroups(source.value)
    if (made !== null) source.value = made
    else {
      plan.set(['groups'], [{ name: EVERYONE, users: plan.data.value?.load ?? [] }])
      plan.set(['load'], undefined)
    }
  }
  plan.insert(['groups'], plan.data.value?.groups?.length ?? 0, group)
  active.value = chapters.value.length - 1
  plan.commit()
}
function removeGroup(index: number) {
  plan.remove(['groups'], index)
  plan.commit()
}
function rename(chapter: Chapter, name: string) {
  plan.set([...(chapter.at ?? []), 'name'], name)
  plan.commit()
}
function countIn(chapter: Chapter, way: string | undefined) {
  const unit = way === 'arrivals' ? 'rate' : 'users'
  if (!chapter.group || !chapter.at || chapter.unit === unit) return
  const { users: own, arrivals, law, at_most, connections, ...rest } = chapter.group
  const told = inUnit(own ?? arrivals ?? [], unit)
  plan.set(chapter.at, unit === 'rate' ? { ...rest, arrivals: told } : { ...rest, users: told })
  void [law, at_most, connections] // ways of arriving only
  plan.commit()
}
</script>

<template>
  <section aria-label="Load">
    <h2 class="mb-1">Load</h2>
    <div class="sticky top-0 z-10 -mx-1 border-b border-rule bg-paper px-1 pb-1">
      <Terrain
        :groups="chapters"
        :active="shown"
        :chosen="chosen"
        :pointed="pointed"
        :fixed="plan.fixed.value"
        @choose="choose(shown, $event)"
        @point="pointed = $event"
        @drag="drag"
        @dropped="plan.commit()"
      />
      <p data-testid="load-totals">{{ sentence }}</p>
    </div>
    <div
      v-for="(chapter, i) in chapters"
      :key="i"
      class="mt-3"
      data-testid="group"
      @focusin="active = i"
    >
      <div v-if="chapter.group" class="mb-1 grid items-end gap-x-3 sm:grid-cols-[1fr_12rem_auto]">
        <Field
          :label="`Group ${i + 1}`"
          :fault="plan.faultAt(`${pathText(chapter.at ?? [])}.name`)"
          :model-value="chapter.group.name"
          @update:model-value="rename(chapter, String($event ?? ''))"
        />
        <Choice
          :label="`Group ${i + 1} is counted in`"
          :options="[
            { value: 'users', text: 'users at a time' },
            { value: 'arrivals', text: 'arrivals per second' },
          ]"
          :model-value="chapter.unit === 'rate' ? 'arrivals' : 'users'"
          @update:model-value="countIn(chapter, $event)"
        />
        <Action
          :disabled="chapters.length < 2"
          :aria-label="`Remove ${chapter.name}`"
          @click="removeGroup(i)"
          >Remove</Action
        >
      </div>
      <Sentences
        :sentences="chapter.sentences"
        :lines="chapter.lines"
        :unit="chapter.unit"
        :path="chapter.path"
        :chosen="shown === i ? chosen : null"
        @choose="choose(i, $event)"
        @point="((active = i), (pointed = $event))"
      />
      <GroupForm
        v-if="chapter.group && chapter.at"
        :group="chapter.group"
        :path="chapter.at"
        :journeys="journeys"
        :weights="weights"
      />
    </div>
    <Action v-if="!plan.fixed.value" class="mt-3" needs="planner" @click="addGroup">
      {{ chapters[0]?.group ? 'Add a group' : 'Part people into groups' }}
    </Action>
  </section>
</template>
