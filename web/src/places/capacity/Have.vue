<script setup lang="ts">
import { computed } from 'vue'
import type { CapacityAnswer } from '@/api/capacity'
import { day, figure, loadFigure, percent } from '@/ui/format'

/** What to have of each component: now, as planned, how full it is at the peak, and how far it goes. */
const props = defineProps<{ answer: CapacityAnswer }>()
const priced = computed(() => props.answer.currency !== null)
const beyond = (load: number | null | undefined) => (load == null ? '–' : loadFigure(load))
const cost = (amount: number | null | undefined) => (amount == null ? '–' : amount.toFixed(2))
const change = (now: number, planned: number | null | undefined) =>
  planned == null || planned === now
    ? ''
    : planned > now
      ? ` (+${planned - now})`
      : ` (−${now - planned})`
/** What it comes to for whom it is there. */
const each = computed(() => {
  const { per_month: month, per_hour: hour, peak, unit, currency } = props.answer
  if (month == null || hour == null || !(peak > 0)) return ''
  return unit === 'users'
    ? `${figure(month / peak)} ${currency} for each of ${loadFigure(peak)} users`
    : `${figure(hour / 3.6 / peak)} ${currency} for 1,000 steps at the peak`
})
</script>

<template>
  <section aria-label="What to have" class="min-w-0">
    <h2 class="mb-2">What to have</h2>
    <div class="overflow-x-auto">
      <table class="w-full text-[13.5px]" data-testid="have">
        <thead>
          <tr class="label border-b border-rule text-left">
            <th class="py-1 pr-3 font-normal" scope="col">Component</th>
            <th class="py-1 pr-3 text-right font-normal" scope="col">Now</th>
            <th class="py-1 pr-3 text-right font-normal" scope="col">Planned</th>
            <th class="py-1 pr-3 font-normal" scope="col">Size</th>
            <th v-if="priced" class="py-1 pr-3 text-right font-normal" scope="col">
              {{ answer.currency }}/h
            </th>
            <th class="py-1 pr-3 text-right font-normal" scope="col">Busy at the peak</th>
            <th v-if="answer.lost" class="py-1 pr-3 text-right font-normal" scope="col">
              one {{ answer.lost }} lost
            </th>
            <th class="py-1 pr-3 text-right font-normal" scope="col">Enough for</th>
            <th class="py-1 text-right font-normal" scope="col">Now enough for</th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="one in answer.components" :key="one.name" class="border-b border-rule">
            <th
              class="py-1.5 pr-3 text-left text-[13.5px] font-normal break-words text-ink"
              scope="row"
            >
              <code class="font-mono">{{ one.name }}</code>
              <span v-if="!one.metered" class="label"> no demand known</span>
            </th>
            <td class="figures py-1.5 pr-3 text-right">{{ one.now }}</td>
            <td class="figures py-1.5 pr-3 text-right whitespace-nowrap">
              <strong v-if="one.planned !== null">{{ one.planned }}</strong><template v-else
                >–</template
              >{{ change(one.now, one.planned) }}
            </td>
            <td class="py-1.5 pr-3 break-words">
              <template v-if="one.size !== one.now_size">{{ one.size }}</template>
              <span v-else class="text-ink-2">{{ one.size || '–' }}</span>
            </td>
            <td v-if="priced" class="figures py-1.5 pr-3 text-right">{{ cost(one.per_hour) }}</td>
            <td
              class="figures py-1.5 pr-3 text-right whitespace-nowrap"
              :title="
                one.use
                  ? `${one.resource.replaceAll('`', '')}: ${percent(one.use.low)} to ${percent(one.use.high)}`
                  : undefined
              "
            >
              {{ one.use ? percent(one.use.value) : '–' }}
            </td>
            <td v-if="answer.lost" class="figures py-1.5 pr-3 text-right">
              {{ one.use_lost ? percent(one.use_lost.value) : '–' }}
            </td>
            <td class="figures py-1.5 pr-3 text-right">{{ beyond(one.ceiling) }}</td>
            <td class="figures py-1.5 text-right whitespace-nowrap">
              {{ beyond(one.now_ceiling) }}
              <span v-if="one.until" class="text-ink-2">until {{ day(one.until) }}</span>
            </td>
          </tr>
        </tbody>
        <tfoot v-if="priced && answer.per_hour !== null">
          <tr>
            <th class="py-1.5 pr-3 text-left font-normal" scope="row">Together</th>
            <td colspan="3" class="py-1.5 pr-3 text-right text-ink-2">
              now {{ cost(answer.now_per_hour) }}
            </td>
            <td class="figures py-1.5 pr-3 text-right">
              <strong>{{ cost(answer.per_hour) }}</strong>
            </td>
            <td colspan="4" class="py-1.5 text-ink-2">
              {{ figure(answer.per_month) }} {{ answer.currency }} a month, {{ each }}
            </td>
          </tr>
        </tfoot>
      </table>
    </div>
    <p class="label mt-1">
      Loads in {{ answer.unit }}, of each component alone; “now” is while no instance is lost.
    </p>
    <ul v-if="answer.pools.length" class="mt-2 list-disc pl-5 text-[13.5px]">
      <li v-for="pool in answer.pools" :key="pool">{{ pool.replaceAll('`', '') }}</li>
    </ul>
  </section>
</template>
