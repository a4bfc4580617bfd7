<script setup lang="ts">
import { computed } from 'vue'
import { useScaling, type SeriesDetail } from '@/api/series'
import ScalingPlate from '@/plates/ScalingPlate.vue'
import { extentOf } from '@/plates/scaling'
import Loading from '@/ui/Loading.vue'
import Problem from '@/ui/Problem.vue'
import Sentence from '@/ui/Sentence.vue'
import { figure, loadFigure, percent, users } from '@/ui/format'

/** What more of something brings: the limit at each value, by which law it grows, and what others would bring. */
const props = defineProps<{ series: SeriesDetail }>()
const scaling = useScaling(
  () => props.series.id,
  () => props.series.over,
)
const found = computed(() => scaling.data.value)
const drawn = computed(
  () => found.value && extentOf(found.value) && found.value.points.some((one) => one.runs.length),
)
type Bracket = { value: number; low: number; high: number } | null
const between = (one: Bracket, of: (value: number) => string = loadFigure) =>
  one ? `${of(one.low)} to ${of(one.high)}` : ''
const load = (value: number) =>
  found.value?.load_unit === 'users' ? users(value) : loadFigure(value)
const priced = computed(() => found.value?.points.some((one) => one.thousand_steps))
const likely = computed(() =>
  [...(found.value?.laws ?? [])]
    .sort((a, b) => b.share - a.share)
    .filter((one) => one.share >= 0.01),
)
</script>

<template>
  <Loading v-if="scaling.isPending.value" what="what the values tell" />
  <Problem v-else-if="scaling.isError.value" :error="scaling.error.value" />
  <template v-else-if="found">
    <p class="text-[18px]" data-testid="sentence"><Sentence :text="found.sentence" /></p>
    <p v-for="why in found.missing" :key="why" class="border-l-2 border-ochre pl-3">
      <span class="label">Left out: </span><Sentence :text="why" />
    </p>
    <ScalingPlate v-if="drawn" :found="found" />
    <section aria-label="Values">
      <h2 class="mb-1">What each value did</h2>
      <div class="overflow-x-auto">
        <table data-testid="values">
          <thead>
            <tr>
              <th>Value</th>
              <th class="text-right">Limit, steps/s</th>
              <th class="text-right">90 %</th>
              <th class="text-right">Each brings</th>
              <th class="text-right">Comfort limit, {{ found.load_unit }}</th>
              <th>Gave out first</th>
              <th v-if="priced" class="text-right">{{ found.currency }} per 1,000</th>
              <th>Runs</th>
            </tr>
          </thead>
          <tbody>
            <tr v-for="one in found.points" :key="one.words">
              <td><Sentence :text="one.words" /></td>
              <td class="figures text-right">
                <template v-if="one.limit">{{ loadFigure(one.limit.value) }}</template>
                <template v-else-if="one.at_least !== null"
                  >over {{ loadFigure(one.at_least) }}</template
                >
                <span v-else class="text-ink-2">–</span>
              </td>
              <td class="figures text-right whitespace-nowrap">{{ between(one.limit) }}</td>
              <td class="figures text-right" :title="between(one.efficiency, percent)">
                {{ one.efficiency ? percent(one.efficiency.value) : '' }}
              </td>
              <td class="figures text-right" :title="between(one.comfort, load)">
                {{
                  one.comfort
                    ? load(one.comfort.value)
                    : one.comfort_over !== null
                      ? `over ${load(one.comfort_over)}`
                      : ''
                }}
              </td>
              <td><Sentence :text="one.limited_by.join(', ')" /></td>
              <td
                v-if="priced"
                class="figures text-right"
                :title="between(one.thousand_steps, figure)"
              >
                {{ one.thousand_steps ? figure(one.thousand_steps.value) : '' }}
              </td>
              <td>
                <RouterLink v-for="run in one.runs" :key="run" class="mr-2" :to="`/runs/${run}`">{{
                  run
                }}</RouterLink>
                <span v-if="!one.runs.length" class="text-ink-2">to come</span>
              </td>
            </tr>
          </tbody>
        </table>
      </div>
      <p class="label mt-1">
        Each brings: the limit over how much there is, against the least of it.
        <template v-if="priced"
          >Costs are of the whole system at its limit, by the prices of its instances.</template
        >
      </p>
    </section>
    <section v-if="found.others.length" aria-label="Values not tried">
      <h2 class="mb-1">What other values would do</h2>
      <div class="overflow-x-auto">
        <table data-testid="others">
          <thead>
            <tr>
              <th>Value</th>
              <th class="text-right">Limit, steps/s</th>
              <th class="text-right">5 to 95 %</th>
              <th>Would give out first</th>
              <th v-if="priced" class="text-right">{{ found.currency }} per 1,000</th>
            </tr>
          </thead>
          <tbody>
            <tr v-for="one in found.others" :key="one.words" :class="{ 'text-ink-2': one.wide }">
              <td><Sentence :text="one.words" /></td>
              <template v-if="one.wide">
                <td class="text-right">not told</td>
                <td colspan="2">
                  between {{ between(one.limit) }}: more than the data can tell apart. Measure it.
                </td>
              </template>
              <template v-else>
                <td class="figures text-right">{{ loadFigure(one.limit.value) }}</td>
                <td class="figures text-right whitespace-nowrap">{{ between(one.limit) }}</td>
                <td>
                  <Sentence :text="one.gives_out" />
                  <span v-if="one.sure < 0.9" class="label"> {{ percent(one.sure) }} sure</span>
                </td>
              </template>
              <td v-if="priced" class="figures text-right">
                {{ one.thousand_steps && !one.wide ? figure(one.thousand_steps.value) : '' }}
              </td>
            </tr>
          </tbody>
        </table>
      </div>
    </section>
    <section v-if="found.why_not || likely.length" aria-label="How it grows">
      <h2 class="mb-1">How it grows</h2>
      <p v-if="found.why_not">{{ found.why_not }}</p>
      <ul v-else class="space-y-1" data-testid="laws">
        <li v-for="one in likely" :key="one.law" class="flex items-center gap-2">
          <span class="figures w-14 text-right whitespace-nowrap"
            >{{ Math.round(100 * one.share) }} %</span
          >
          <span
            class="inline-block h-2 bg-copper"
            :style="{ width: `${120 * one.share}px` }"
          ></span>
          {{ one.words }}
        </li>
      </ul>
      <p v-if="found.faded_from !== null" class="mt-2" data-testid="faded">
        From {{ loadFigure(found.faded_from) }} on one more brings under half of what the first ones
        brought each.
      </p>
      <p v-if="found.cheapest" class="mt-2">
        1,000 steps are cheapest with <Sentence :text="found.cheapest" />, of what is known.
      </p>
      <ul v-if="found.limits.length" class="label mt-2 space-y-1">
        <li v-for="one in found.limits" :key="one"><Sentence :text="one" /></li>
      </ul>
    </section>
  </template>
</template>
