<script setup lang="ts">
import { computed, ref } from 'vue'
import { useRouter } from 'vue-router'
import { useExperiments } from '@/api/experiments'
import Action from '@/ui/Action.vue'
import DraftListFoot from '@/ui/DraftListFoot.vue'
import LoadSketch from '@/ui/LoadSketch.vue'
import Loading from '@/ui/Loading.vue'
import Problem from '@/ui/Problem.vue'
import RunState from '@/ui/RunState.vue'
import Sentence from '@/ui/Sentence.vue'
import { given, users, when } from '@/ui/format'
import OverTime from './experiment/OverTime.vue'

const archived = ref(false)
const experiments = useExperiments(archived)
const router = useRouter()
const tag = ref('')
const tags = computed(() =>
  [...new Set((experiments.data.value ?? []).flatMap((e) => e.tags))].sort((a, b) =>
    a.localeCompare(b),
  ),
)
const shown = computed(() => {
  const all = experiments.data.value ?? []
  return tags.value.includes(tag.value) ? all.filter((e) => e.tags.includes(tag.value)) : all
})
</script>

<template>
  <div class="mb-4 flex flex-wrap items-baseline gap-x-4 gap-y-2">
    <h1 class="mr-auto">Experiments</h1>
    <div
      v-if="tags.length"
      class="flex flex-wrap gap-2"
      role="group"
      aria-label="Only those with a tag"
    >
      <button
        v-for="one in tags"
        :key="one"
        type="button"
        class="label rounded border px-2"
        :class="tag === one ? 'border-copper text-ink' : 'border-rule'"
        :aria-pressed="tag === one"
        @click="tag = tag === one ? '' : one"
      >
        {{ one }}
      </button>
    </div>
    <Action needs="planner" @click="router.push('/experiments/new')">New experiment</Action>
  </div>
  <Loading v-if="experiments.isPending.value" what="the experiments" />
  <Problem v-else-if="experiments.isError.value" :error="experiments.error.value" />
  <p v-else-if="!shown.length && archived" class="py-8 text-ink-2">Nothing is archived.</p>
  <div v-else-if="!shown.length" class="py-8">
    <p class="max-w-prose">
      An experiment holds a question and all that is needed to answer it: the system, what its users
      do, the load over time and the objectives. Begin with the example and change it.
    </p>
    <Action
      needs="planner"
      class="mt-4"
      kind="primary"
      @click="router.push('/experiments/new?as=text')"
    >
      Begin with the example
    </Action>
  </div>
  <ul v-else class="divide-y divide-rule border-y border-rule">
    <li v-for="e in shown" :key="e.id" class="grid gap-x-6 gap-y-1 py-4 md:grid-cols-[2fr_3fr]">
      <div class="min-w-0">
        <RouterLink :to="`/experiments/${e.id}`" class="text-[17px] font-semibold break-words">{{
          e.name
        }}</RouterLink>
        <span
          v-for="one in e.tags"
          :key="one"
          class="label ml-2 rounded border border-rule px-1.5"
          >{{ one }}</span
        >
        <p v-if="e.fault" class="break-words text-brick" role="note">
          ✕ This document cannot be read any more: {{ e.fault }}
        </p>
        <p class="break-words">{{ e.question }}</p>
        <p v-if="!e.fault" class="label">
          {{ e.system }} · up to {{ users(e.peak_users) }} users over {{ given(e.duration_s) }} ·
          revision {{ e.revision }},
          {{ when(e.changed_at) }}
        </p>
      </div>
      <div class="flex min-w-0 items-start gap-4">
        <LoadSketch :load="e.load" class="mt-1" />
        <div class="min-w-0">
          <template v-if="e.turns">
            <p v-if="e.series_id">
              <RouterLink :to="`/series/${e.series_id}`">In turns</RouterLink>
              <RunState
                class="ml-2"
                :state="e.series_state === 'going' ? 'running' : (e.series_state ?? '')"
                :seeded="e.series_seeded ?? false"
              />
            </p>
            <p v-if="e.series_id" class="break-words">
              <Sentence :text="e.series_sentence ?? ''" />
            </p>
            <p v-if="!e.series_id || e.last_run_simulated" class="text-ink-2">
              Not measured yet. Open it and press <strong>Start {{ e.turns }} turns</strong>.
            </p>
          </template>
          <template v-else-if="e.last_run_id">
            <p>
              <RouterLink :to="`/runs/${e.last_run_id}`">Run {{ e.last_run_id }}</RouterLink>
              <RunState
                class="ml-2"
                :state="e.last_run_state ?? ''"
                :simulated="e.last_run_simulated ?? false"
                :seeded="e.last_run_seeded ?? false"
              />
            </p>
            <p class="break-words"><Sentence :text="e.last_run_verdict ?? ''" /></p>
            <OverTime :id="e.id" />
            <p v-if="e.last_run_simulated" class="text-ink-2">
              Not measured yet. Open it and press <strong>Start run</strong>: the load is drawn as
              it climbs, and after {{ given(e.duration_s) }} it says what holds here.
            </p>
          </template>
          <p v-else-if="e.fault" class="text-ink-2">Not run yet.</p>
          <p v-else class="text-ink-2">
            Not run yet. Open it and press <strong>Start run</strong>: the load is drawn as it
            climbs, and after {{ given(e.duration_s) }} it says how many users the system holds, and
            what limits it.
          </p>
        </div>
      </div>
    </li>
  </ul>
  <DraftListFoot v-model:archived="archived" kind="experiment" />
</template>
