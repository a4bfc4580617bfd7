<script setup lang="ts">
import { ref } from 'vue'
import { useRouter } from 'vue-router'
import { useCreateJourney, useJourneys } from '@/api/journeys'
import { useOutlines } from '@/api/queries'
import { useSystems } from '@/api/systems'
import Action from '@/ui/Action.vue'
import DraftListHead from '@/ui/DraftListHead.vue'
import Loading from '@/ui/Loading.vue'
import Problem from '@/ui/Problem.vue'
import { percent, when } from '@/ui/format'
import JourneyTabs from './JourneyTabs.vue'

const router = useRouter()
const archived = ref(false)
const journeys = useJourneys(archived)
const outlines = useOutlines()
const systems = useSystems()
const create = useCreateJourney()

async function make(source?: string) {
  const only = systems.data.value?.length === 1 ? systems.data.value[0]?.name : undefined
  const given = source === undefined ? { system: only } : { source }
  const made = await create.mutateAsync(given).catch(() => null)
  if (made) await router.push(`/journeys/${made.id}`)
}
</script>

<template>
  <JourneyTabs />
  <DraftListHead
    v-model:archived="archived"
    title="Journeys"
    kind="journey"
    :busy="create.isPending.value"
    @create="make()"
    @import="make"
  >
    <Action @click="router.push('/journeys/import')">From a file</Action>
  </DraftListHead>
  <Problem v-if="create.isError.value" class="mb-4" :error="create.error.value" />
  <Loading v-if="journeys.isPending.value" what="the journeys" />
  <Problem v-else-if="journeys.isError.value" :error="journeys.error.value" />
  <p v-else-if="!journeys.data.value?.length" class="max-w-prose py-8">
    <template v-if="archived">No journey is archived.</template>
    <template v-else>
      A journey is what one user does from start to end, step by step. Write one with “New journey”,
      try it once, then let an experiment send many users on it.
    </template>
  </p>
  <ul v-else class="divide-y divide-rule border-y border-rule">
    <li
      v-for="j in journeys.data.value"
      :key="j.id"
      class="grid gap-x-6 gap-y-1 py-4 md:grid-cols-[2fr_3fr]"
    >
      <div class="min-w-0">
        <RouterLink :to="`/journeys/${j.id}`" class="text-[17px] font-semibold break-words">{{
          j.name
        }}</RouterLink>
        <p class="label break-words">
          {{ j.system || 'no system chosen' }} · changed {{ when(j.changed_at) }}
        </p>
      </div>
      <div class="min-w-0 text-[13.5px]">
        <p class="break-words">{{ j.steps.join(' → ') || 'No step yet' }}</p>
        <p>
          <span v-if="j.passed" class="text-moss">○ passed its trial</span>
          <span v-else-if="j.trial_reason" class="break-words text-brick"
            >✕ {{ j.trial_reason }}</span
          >
          <span v-else class="text-ink-2">◌ not tried since its last change</span>
        </p>
      </div>
    </li>
  </ul>

  <section v-if="outlines.data.value?.length" class="mt-8">
    <h2 class="mb-2">In experiments</h2>
    <Problem v-if="outlines.isError.value" :error="outlines.error.value" />
    <div v-for="e in outlines.data.value" :key="e.id" class="mb-6">
      <RouterLink :to="`/experiments/${e.id}`">{{ e.name }}</RouterLink>
      <ul class="mt-1 grid gap-4 md:grid-cols-2 xl:grid-cols-3">
        <li
          v-for="journey in e.outline.journeys"
          :key="journey.name"
          class="min-w-0 border-t border-rule pt-2"
        >
          <p class="font-semibold break-words">{{ journey.name }}</p>
          <p class="label">{{ percent(journey.share) }} of journeys begun</p>
          <ol class="mt-1 list-inside list-decimal">
            <li v-for="step in journey.steps" :key="step.name" class="break-words">
              {{ step.name }} <span class="label">then think: {{ step.think }}</span>
            </li>
          </ol>
        </li>
      </ul>
    </div>
  </section>
</template>
