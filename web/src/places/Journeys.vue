<script setup lang="ts">
import { computed, ref } from 'vue'
import { useRouter } from 'vue-router'
import { useCreateJourney, useJourneys } from '@/api/journeys'
import { useExperiments } from '@/api/experiments'
import { useSystems } from '@/api/systems'
import Action from '@/ui/Action.vue'
import DraftListFoot from '@/ui/DraftListFoot.vue'
import DraftListHead from '@/ui/DraftListHead.vue'
import Loading from '@/ui/Loading.vue'
import Problem from '@/ui/Problem.vue'
import { when } from '@/ui/format'
import JourneyTabs from './JourneyTabs.vue'

const router = useRouter()
const archived = ref(false)
const journeys = useJourneys(archived)
const experiments = useExperiments()
const written = computed(() =>
  (experiments.data.value ?? []).filter((e) => e.own_journeys.length > 0),
)
const systems = useSystems()
const create = useCreateJourney()

async function make() {
  const only = systems.data.value?.length === 1 ? systems.data.value[0]?.name : undefined
  const made = await create.mutateAsync({ system: only }).catch(() => null)
  if (made) await router.push(`/journeys/${made.id}`)
}
</script>

<template>
  <JourneyTabs />
  <DraftListHead
    title="Journeys"
    kind="journey"
    :busy="create.isPending.value"
    without-import
    @create="make()"
  >
    <Action needs="planner" @click="router.push('/journeys/import')">From a file</Action>
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
        <p v-if="j.experiments.length" class="text-[13.5px] break-words">
          Sent by
          <template v-for="(e, i) in j.experiments" :key="e.id">
            <RouterLink :to="`/experiments/${e.id}`">{{ e.name }}</RouterLink>{{
              i < j.experiments.length - 1 ? ', ' : ''
            }}
          </template>
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
  <DraftListFoot v-model:archived="archived" kind="journey" />

  <section v-if="written.length" class="mt-8 text-[13.5px]" aria-label="Written in experiments">
    <h2 class="mb-1">Written inside experiments</h2>
    <p v-for="e in written" :key="e.id" class="break-words">
      <RouterLink :to="`/experiments/${e.id}`">{{ e.name }}</RouterLink>:
      {{ e.own_journeys.join(', ') }}
    </p>
  </section>
</template>
