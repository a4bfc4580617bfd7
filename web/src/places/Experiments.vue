<script setup lang="ts">
import { useRouter } from 'vue-router'
import { useExperiments } from '@/api/queries'
import Action from '@/ui/Action.vue'
import LoadSketch from '@/ui/LoadSketch.vue'
import Loading from '@/ui/Loading.vue'
import Problem from '@/ui/Problem.vue'
import RunState from '@/ui/RunState.vue'
import Sentence from '@/ui/Sentence.vue'
import { given, users, when } from '@/ui/format'

const experiments = useExperiments()
const router = useRouter()
</script>

<template>
  <div class="mb-4 flex items-baseline justify-between gap-4">
    <h1>Experiments</h1>
    <Action needs="planner" @click="router.push('/experiments/new')">New experiment</Action>
  </div>
  <Loading v-if="experiments.isPending.value" what="the experiments" />
  <Problem v-else-if="experiments.isError.value" :error="experiments.error.value" />
  <div v-else-if="!experiments.data.value?.length" class="py-8">
    <p class="max-w-prose">
      An experiment holds a question and all that is needed to answer it: the system, what its users
      do, the load over time and the objectives. Begin with the example and change it.
    </p>
    <Action needs="planner" class="mt-4" kind="primary" @click="router.push('/experiments/new')">
      Begin with the example
    </Action>
  </div>
  <ul v-else class="divide-y divide-rule border-y border-rule">
    <li
      v-for="e in experiments.data.value"
      :key="e.id"
      class="grid gap-x-6 gap-y-1 py-4 md:grid-cols-[2fr_3fr]"
    >
      <div class="min-w-0">
        <RouterLink :to="`/experiments/${e.id}`" class="text-[17px] font-semibold break-words">{{
          e.name
        }}</RouterLink>
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
          <template v-if="e.last_run_id">
            <p>
              <RouterLink :to="`/runs/${e.last_run_id}`">Run {{ e.last_run_id }}</RouterLink>
              <RunState
                class="ml-2"
                :state="e.last_run_state ?? ''"
                :simulated="e.last_run_simulated ?? false"
              />
            </p>
            <p class="break-words"><Sentence :text="e.last_run_verdict ?? ''" /></p>
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
</template>
