<script setup lang="ts">
import { computed } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { useStorm } from '@/api/changes'
import StormPlate from '@/plates/StormPlate.vue'
import Choice from '@/ui/Choice.vue'
import Loading from '@/ui/Loading.vue'
import Problem from '@/ui/Problem.vue'
import Sentence from '@/ui/Sentence.vue'
import { amount, clock, figure, given, seconds, users } from '@/ui/format'

/** Many started at once: how soon they were ready, who came late, what was busy meanwhile, and how it was before. */
const props = defineProps<{ id: number; change: number }>()
const route = useRoute()
const router = useRouter()
const against = computed(() => Number(route.query.against) || undefined)
const storm = useStorm(
  () => props.id,
  () => props.change,
  against,
)
const found = computed(() => storm.data.value)
const going = computed(() => ['asked', 'accepted'].includes(found.value?.state ?? ''))
const others = computed(() => [
  { value: '', text: 'none' },
  ...(found.value?.others ?? []).map((one) => ({
    value: String(one.id),
    text: `run ${one.run}: ${one.words}`,
  })),
])
function choose(value: string | undefined) {
  void router.replace({ query: { ...route.query, against: value || undefined } })
}
const never = computed(() => found.value?.late.filter((one) => one.after_s === null) ?? [])
const late = computed(() => found.value?.late.filter((one) => one.after_s !== null) ?? [])
</script>

<template>
  <Loading v-if="storm.isPending.value" what="how soon they were ready" />
  <Problem v-else-if="storm.isError.value" :error="storm.error.value" />
  <template v-else-if="found">
    <header class="mb-2">
      <h1 class="break-words">{{ found.words }}</h1>
      <p class="label">
        under <RouterLink :to="`/runs/${id}`">run {{ id }}</RouterLink
        >, asked for at {{ clock(found.asked_s) }} by {{ found.who
        }}<template v-if="found.accepted_s !== null"
          >, accepted after {{ seconds(Math.max(0, found.accepted_s)) }}</template
        >
      </p>
    </header>
    <div class="grid gap-6 lg:grid-cols-[3fr_1fr]">
      <div class="min-w-0 space-y-5">
        <p class="text-[18px]" data-testid="sentence" :aria-live="going ? 'polite' : 'off'">
          <Sentence :text="found.sentence" />
        </p>
        <p v-if="found.fault" class="border-l-2 border-brick pl-3 break-words text-brick">
          {{ found.fault }}
        </p>
        <StormPlate :found="found" />
        <p class="label">
          Each was asked every {{ given(found.every_s) }}, so that nothing is told more exactly than
          that<template v-if="found.late_s > 0.1"
            >; questions came late by up to {{ seconds(found.late_s) }}</template
          >. Strips: how busy what is metered was, each up to its own highest<template
            v-if="found.disks.length"
            >; of disks reading is drawn whole, writing dashed</template
          >.
        </p>
        <section v-if="found.disks.length" aria-label="Disks">
          <h2 class="mb-1">What disks did, before and meanwhile</h2>
          <div class="overflow-x-auto">
            <table data-testid="disks">
              <thead>
                <tr>
                  <th>Disks of</th>
                  <th></th>
                  <th class="text-right">Operations</th>
                  <th class="text-right">Time of each</th>
                  <th class="text-right">Size of each</th>
                </tr>
              </thead>
              <tbody>
                <tr v-for="one in found.disks" :key="`${one.component} ${one.op}`">
                  <td class="break-words">{{ one.component }}</td>
                  <td>{{ one.op === 'read' ? 'reading' : 'writing' }}</td>
                  <td class="figures text-right">
                    {{ amount(one.before.rate, '/s') }} → {{ amount(one.meanwhile.rate, '/s') }}
                  </td>
                  <td class="figures text-right">
                    {{ seconds(one.before.took_s) }} → {{ seconds(one.meanwhile.took_s) }}
                  </td>
                  <td class="figures text-right">
                    {{ amount(one.before.size_bytes, 'B') }} →
                    {{ amount(one.meanwhile.size_bytes, 'B') }}
                  </td>
                </tr>
              </tbody>
            </table>
          </div>
          <p class="label">Meanwhile: until the last of those that came was ready.</p>
        </section>
        <section v-if="!going && found.late.length" aria-label="Stragglers">
          <h2 class="mb-1">Who came late, or not at all</h2>
          <p v-if="found.stragglers > found.late.length" class="label">
            {{ users(found.stragglers) }} in all; the first {{ found.late.length }}:
          </p>
          <table data-testid="late">
            <thead>
              <tr>
                <th class="text-right">Number</th>
                <th class="text-right">Ready after</th>
                <th>Answered last</th>
              </tr>
            </thead>
            <tbody>
              <tr v-for="one in [...never, ...late]" :key="one.number">
                <td class="figures text-right">{{ one.number }}</td>
                <td class="figures text-right">
                  <template v-if="one.after_s !== null">{{ seconds(one.after_s) }}</template>
                  <span v-else class="text-brick">✕ {{ found.missing }}</span>
                </td>
                <td class="break-words">{{ one.last }}</td>
              </tr>
            </tbody>
          </table>
        </section>
      </div>
      <aside class="min-w-0 space-y-5">
        <section aria-label="Marks">
          <h2 class="mb-1">Ready</h2>
          <dl class="grid grid-cols-[auto_1fr] gap-x-3" data-testid="marks">
            <template v-for="one in found.marks" :key="one.share">
              <dt class="label figures text-right">{{ one.share }} %</dt>
              <dd class="figures">
                {{ one.after_s === null ? found.missing : seconds(one.after_s) }}
              </dd>
            </template>
          </dl>
        </section>
        <section aria-label="Another storm" class="space-y-2">
          <h2>Beside another</h2>
          <p v-if="!found.others.length" class="text-ink-2">
            Nothing was started by this change before.
          </p>
          <template v-else>
            <Choice
              label="Held against"
              :options="others"
              :model-value="String(against ?? '')"
              @update:model-value="choose"
            />
            <template v-if="found.against !== null">
              <p data-testid="apart"><Sentence :text="found.apart_sentence" /></p>
              <dl class="grid grid-cols-[auto_1fr] gap-x-3">
                <template v-for="one in found.apart" :key="one.share">
                  <dt class="label figures text-right">{{ one.share }} %</dt>
                  <dd class="figures">
                    {{ figure(one.ratio) }} times
                    <span class="label">{{ figure(one.low) }} to {{ figure(one.high) }}</span>
                  </dd>
                </template>
              </dl>
              <p class="label">
                By chance among the instances of one storm each: what differs from day to day is not
                in it.
              </p>
            </template>
          </template>
        </section>
      </aside>
    </div>
  </template>
</template>
