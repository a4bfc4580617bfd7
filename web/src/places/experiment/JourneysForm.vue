<script setup lang="ts">
import { computed } from 'vue'
import type { PlanOutline } from '@/api/experiments'
import { useJourneys } from '@/api/journeys'
import Action from '@/ui/Action.vue'
import Choice from '@/ui/Choice.vue'
import Field from '@/ui/Field.vue'
import { percent } from '@/ui/format'
import { usePlan, type JourneyDoc } from './plan'

/** What users do: journeys with their weights. */
const props = defineProps<{ outline: PlanOutline }>()
const plan = usePlan()
const known = useJourneys()
const journeys = computed(() => plan.data.value?.journeys ?? [])
const nameOf = (journey: JourneyDoc) => journey.journey ?? journey.name ?? ''
const total = computed(() =>
  journeys.value.reduce((sum, j) => sum + (Number(j.weight ?? 1) || 0), 0),
)
const idOf = (journey: JourneyDoc) => known.data.value?.find((k) => k.name === journey.journey)?.id
const others = computed(() => {
  const taken = new Set(journeys.value.map(nameOf))
  return [
    { value: '', text: 'add a journey …' },
    ...(known.data.value ?? [])
      .filter((j) => !taken.has(j.name) && j.steps.length)
      .map((j) => ({ value: j.name, text: j.name })),
  ]
})
const stepsOf = (name: string) => props.outline.journeys.find((j) => j.name === name)?.steps ?? []

function weigh(index: number, weight: number) {
  plan.set(['journeys', index, 'weight'], weight)
  plan.commit()
}
function add(name: string | undefined) {
  if (!name) return
  plan.insert(['journeys'], journeys.value.length, { journey: name, weight: 1 })
  plan.commit()
}
function remove(index: number) {
  plan.remove(['journeys'], index)
  plan.commit()
}
</script>

<template>
  <section aria-label="Journeys">
    <h2 class="mb-1">Journeys</h2>
    <div
      v-for="(journey, i) in journeys"
      :key="nameOf(journey)"
      class="border-b border-rule py-2"
      data-testid="journey"
    >
      <div class="grid grid-cols-[1fr_5.5rem_auto] items-end gap-x-3">
        <p class="min-w-0 self-center break-words">
          <RouterLink v-if="idOf(journey)" :to="`/journeys/${idOf(journey)}`">{{
            nameOf(journey)
          }}</RouterLink>
          <template v-else>{{ nameOf(journey) }}</template>
          <span class="label ml-2">
            {{ percent(Number(journey.weight ?? 1) / (total || 1)) }} of journeys begun<template
              v-if="!journey.journey"
              >, written in the text</template
            >
          </span>
        </p>
        <Field
          :label="i ? `Weight of ${nameOf(journey)}` : 'Weight'"
          :label-hidden="i > 0"
          type="number"
          mono
          :fault="plan.faultAt(`journeys[${i}].weight`)"
          :model-value="journey.weight ?? 1"
          @update:model-value="weigh(i, Number($event ?? 1))"
        />
        <Action
          :disabled="journeys.length < 2"
          :aria-label="`Remove ${nameOf(journey)}`"
          @click="remove(i)"
          >Remove</Action
        >
      </div>
      <p v-if="plan.faultAt(`journeys[${i}].journey`)" class="text-[13px] text-brick" role="alert">
        ✕ {{ plan.faultAt(`journeys[${i}].journey`)?.message }}
      </p>
      <details v-if="stepsOf(nameOf(journey)).length" class="mt-1">
        <summary class="label cursor-pointer">
          {{
            stepsOf(nameOf(journey))
              .map((s) => s.name)
              .join(', ')
          }}
        </summary>
        <div class="overflow-x-auto">
          <table>
            <thead>
              <tr>
                <th class="w-1/4">Step</th>
                <th>Request</th>
                <th>Expects</th>
                <th>Think time</th>
              </tr>
            </thead>
            <tbody>
              <tr v-for="step in stepsOf(nameOf(journey))" :key="step.name">
                <td>{{ step.name }}</td>
                <td>
                  <code class="figures break-all">{{ step.request }}</code>
                </td>
                <td class="figures">{{ step.expect.join(', ') }}</td>
                <td>{{ step.think }}</td>
              </tr>
            </tbody>
          </table>
        </div>
      </details>
    </div>
    <Choice
      v-if="others.length > 1 && !plan.fixed.value"
      class="mt-2 max-w-xs"
      label="Another journey"
      label-hidden
      :options="others"
      model-value=""
      @update:model-value="add"
    />
    <p v-for="feed in outline.feeds" :key="feed" class="label mt-1 break-words">Feed {{ feed }}</p>
  </section>
</template>
