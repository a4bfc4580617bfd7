<script setup lang="ts">
import { useIntervalFn } from '@vueuse/core'
import { computed, ref } from 'vue'
import { useRouter } from 'vue-router'
import { useRole } from '@/ui/role'
import { useHalt } from '@/api/halt'
import { useExperiment, useReadiness, useRestore, useRuns, useStartRun } from '@/api/queries'
import ProfilePlate from '@/plates/ProfilePlate.vue'
import Action from '@/ui/Action.vue'
import Loading from '@/ui/Loading.vue'
import Problem from '@/ui/Problem.vue'
import RunState from '@/ui/RunState.vue'
import Sentence from '@/ui/Sentence.vue'
import TargetNotice from '@/ui/TargetNotice.vue'
import WhoDidWhat from '@/ui/WhoDidWhat.vue'
import BeforeStart from './experiment/BeforeStart.vue'
import { given, percent, users, when } from '@/ui/format'

const { may } = useRole()
const halt = useHalt()
const props = defineProps<{ id: number }>()
const router = useRouter()
const experiment = useExperiment(() => props.id)
const runs = useRuns(() => ({ experiment: props.id }))
const start = useStartRun()
const restore = useRestore()
const outline = computed(() => experiment.data.value?.outline)
const peak = computed(() => {
  const { peak_users: most = 0, peak_rate: rate = 0 } = outline.value?.profile ?? {}
  const arriving = rate ? `${users(rate)} arrivals per second` : ''
  return [most || !rate ? `${users(most)} users` : '', arriving].filter(Boolean).join(' and ')
})
const now = ref(new Date())
useIntervalFn(() => (now.value = new Date()), 10_000)
const ends = computed(() => {
  const end = new Date(now.value.getTime() + (outline.value?.profile.duration_s ?? 0) * 1000)
  const today = end.toDateString() === now.value.toDateString()
  const time = end.toLocaleTimeString([], { hour: '2-digit', minute: '2-digit' })
  return today ? time : `${end.toLocaleDateString()}, ${time}`
})
const readiness = useReadiness(() => props.id)
const busy = computed(() => runs.data.value?.runs.find((run) => !run.ended))

async function run() {
  const started = await start.mutateAsync(props.id).catch(() => undefined)
  if (started) await router.push(`/runs/${started.id}`)
}
</script>

<template>
  <Loading v-if="experiment.isPending.value" what="the experiment" />
  <Problem v-else-if="experiment.isError.value" :error="experiment.error.value" />
  <template v-else-if="outline">
    <header class="mb-5">
      <h1 class="break-words">{{ outline.name }}</h1>
      <p class="mt-1 break-words">{{ outline.question }}</p>
    </header>
    <div class="grid gap-8 lg:grid-cols-[2fr_1fr]">
      <aside class="min-w-0 space-y-6 lg:order-2">
        <section class="space-y-3">
          <div class="flex flex-wrap gap-2">
            <Action
              needs="planner"
              kind="primary"
              :busy="start.isPending.value"
              :disabled="
                Boolean(busy) ||
                Boolean(halt.data.value?.halted) ||
                readiness.data.value?.may_start === false
              "
              @click="run"
            >
              {{ start.isPending.value ? 'Starting …' : 'Start run' }}
            </Action>
            <Action needs="planner" @click="router.push(`/experiments/${id}/edit`)">Edit</Action>
          </div>
          <p v-if="busy">
            <RouterLink :to="`/runs/${busy.id}`">Run {{ busy.id }}</RouterLink> is
            <RunState :state="busy.state" />.
          </p>
          <Problem v-if="start.isError.value" :error="start.error.value" />
          <TargetNotice :id="id" :key="experiment.data.value?.revision" kind="experiment" />
          <p class="text-ink-2">
            It takes {{ given(outline.profile.duration_s) }} and climbs to {{ peak }}. Started now,
            its load ends soon after {{ ends }}. Before load, every meter is read and every journey
            tried once.
          </p>
        </section>
        <BeforeStart :id="id" :revision="experiment.data.value?.revision" />
        <section>
          <h2 class="mb-1">Objectives</h2>
          <p v-if="!outline.objectives.length" class="text-ink-2">
            None yet. Without objectives a run finds the saturation point, but no comfort limit.
          </p>
          <ul class="space-y-1">
            <li v-for="goal in outline.objectives" :key="goal" class="break-words">{{ goal }}</li>
          </ul>
          <p class="label mt-1">
            Breaking point: errors over {{ `${outline.error_limit * 100} %` }} for good.
          </p>
        </section>
        <section>
          <h2 class="mb-1">Runs</h2>
          <p v-if="!runs.data.value?.runs.length" class="text-ink-2">Not run yet.</p>
          <ul class="space-y-2">
            <li v-for="r in runs.data.value?.runs" :key="r.id">
              <RouterLink :to="`/runs/${r.id}`">Run {{ r.id }}</RouterLink>
              <RunState class="ml-2" :state="r.state" :simulated="r.simulated" />
              <span class="label ml-2">revision {{ r.revision }}, {{ when(r.queued_at) }}</span>
              <p class="break-words"><Sentence :text="r.verdict || r.cause" /></p>
            </li>
          </ul>
        </section>
        <section>
          <h2 class="mb-1">Revisions</h2>
          <ul class="space-y-1">
            <li
              v-for="r in experiment.data.value?.revisions"
              :key="r.number"
              class="flex justify-between gap-3"
            >
              <span>
                Revision {{ r.number }}
                <span class="label"
                  >{{ when(r.created_at) }}{{ r.author ? `, ${r.author}` : '' }}</span
                >
              </span>
              <button
                v-if="r.number !== experiment.data.value?.revision && may('planner')"
                type="button"
                class="text-copper"
                @click="restore.mutate({ id, revision: r.number })"
              >
                Restore
              </button>
              <span v-else-if="r.number === experiment.data.value?.revision" class="label"
                >current</span
              >
            </li>
          </ul>
          <Problem v-if="restore.isError.value" :error="restore.error.value" />
        </section>
        <WhoDidWhat :id="id" :key="experiment.data.value?.revision" kind="experiment" />
      </aside>
      <div class="min-w-0 space-y-6">
        <section>
          <h2>Load profile</h2>
          <ProfilePlate :profile="outline.profile" />
        </section>
        <section>
          <h2 class="mb-2">Journeys</h2>
          <div v-for="journey in outline.journeys" :key="journey.name" class="mb-4">
            <p class="font-semibold break-words">
              {{ journey.name }}
              <span class="label font-normal">{{ percent(journey.share) }} of journeys begun</span>
            </p>
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
                  <tr v-for="step in journey.steps" :key="step.name">
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
          </div>
          <p v-for="group in outline.groups" :key="group" class="label break-words">
            Group {{ group }}
          </p>
          <p v-for="feed in outline.feeds" :key="feed" class="label">Feed {{ feed }}</p>
        </section>
        <section>
          <h2 class="mb-2">
            System:
            <RouterLink
              v-if="experiment.data.value?.system_id"
              :to="`/systems/${experiment.data.value.system_id}`"
              >{{ outline.system.name }}</RouterLink
            >
            <template v-else>{{ outline.system.name }}</template>
          </h2>
          <p class="figures break-all">{{ outline.system.base_url }}</p>
          <ul class="mt-2 space-y-1">
            <li v-for="c in outline.system.components" :key="c.name" class="break-words">
              <code class="figures">{{ c.name }}</code> {{ c.role }}
              <span class="label">{{
                c.meters.length ? `metered at ${c.meters.join(', ')}` : 'no meter'
              }}</span>
            </li>
          </ul>
        </section>
      </div>
    </div>
  </template>
</template>
