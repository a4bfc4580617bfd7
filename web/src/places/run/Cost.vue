<script setup lang="ts">
import { computed } from 'vue'
import type { Schemas } from '@/api/client'
import { useCost } from '@/api/cost'
import { figure } from '@/ui/format'

/** What the run cost by the prices of its system's instances, and what a step and a user cost where it is at its limit. */
const props = defineProps<{ run: number; of: string }>()
const found = useCost(
  () => props.run,
  () => props.of,
)
const cost = computed(() => found.data.value)
const WHERE: Record<Schemas['CostAtLoad']['at'], string> = {
  'comfort limit': 'the comfort limit',
  saturation: 'the saturation point',
  tried: 'the highest load tried',
}
const money = (amount: number) => `${figure(amount)} ${cost.value?.currency}`
function between({ value, low, high }: Schemas['CostBetween']): string {
  const most = cost.value?.at_load?.at_most ? 'at most ' : ''
  const ends = high > low * 1.0005 ? ` (${figure(low)} to ${figure(high)})` : ''
  return `${most}${money(value)}${ends}`
}
</script>

<template>
  <section v-if="cost" class="border-t border-rule pt-2" data-testid="cost">
    <h2 class="text-[15.5px]">Cost</h2>
    <p>
      <template v-if="cost.simulated"
        >Its system would have cost {{ money(cost.run) }} meanwhile</template
      >
      <template v-else>Its system cost {{ money(cost.run) }} meanwhile</template>, at
      {{ money(cost.per_hour) }} an hour<template v-if="cost.generators !== null"
        >; its generators {{ money(cost.generators) }}</template
      >.
    </p>
    <template v-if="cost.at_load">
      <p class="label mt-1">At {{ WHERE[cost.at_load.at] }}, {{ cost.at_load.load }}:</p>
      <dl class="grid grid-cols-[auto_minmax(0,1fr)] gap-x-3">
        <dt>1 000 steps</dt>
        <dd class="figures">{{ between(cost.at_load.thousand_steps) }}</dd>
        <template v-if="cost.at_load.user_month">
          <dt>A user, a month</dt>
          <dd class="figures">{{ between(cost.at_load.user_month) }}</dd>
        </template>
      </dl>
    </template>
    <p class="label">
      {{
        cost.generators === null
          ? 'Without what generators cost'
          : 'What a load costs is told without generators'
      }}<template v-if="cost.unpriced.length"
        >, nor {{ cost.unpriced.join(', ') }}, which have no price</template
      >.
    </p>
  </section>
</template>
