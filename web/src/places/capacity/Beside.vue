<script setup lang="ts">
import { computed, ref } from 'vue'
import { useOtherwise, type CapacityAnswer } from '@/api/capacity'
import Action from '@/ui/Action.vue'
import Grade from '@/ui/Grade.vue'
import Loading from '@/ui/Loading.vue'
import Problem from '@/ui/Problem.vue'
import Sentence from '@/ui/Sentence.vue'
import { loadFigure } from '@/ui/format'

/** Other plans beside this one, and what would be needed if something were otherwise. */
const props = defineProps<{ id: number; state: string | undefined; answer: CapacityAnswer }>()
const open = ref(false)
const otherwise = useOtherwise(
  () => props.id,
  () => props.state,
  open,
)
const names = computed(() => props.answer.components.map((one) => one.name))
const own = computed(() => ({
  label: 'This plan',
  counts: Object.fromEntries(
    props.answer.components.map((one) => [one.name, one.planned ?? one.now]),
  ),
  sizes: Object.fromEntries(
    props.answer.components
      .filter((one) => one.size !== one.now_size)
      .map((one) => [one.name, one.size]),
  ),
  per_hour: props.answer.per_hour ?? 0,
  carried: props.answer.carried,
}))
const cost = (amount: number) =>
  props.answer.currency === null
    ? `${Math.round(amount)} instances`
    : `${amount.toFixed(2)} ${props.answer.currency}/h`
</script>

<template>
  <section v-if="answer.per_hour !== null" aria-label="Side by side" class="min-w-0 space-y-2">
    <h2>Side by side</h2>
    <div class="overflow-x-auto">
      <table class="w-full text-[13.5px]" data-testid="beside">
        <thead>
          <tr class="label border-b border-rule text-left">
            <th class="py-1 pr-3 font-normal" scope="col">Plan</th>
            <th
              v-for="name in names"
              :key="name"
              class="py-1 pr-3 text-right font-normal"
              scope="col"
            >
              {{ name }}
            </th>
            <th class="py-1 pr-3 text-right font-normal" scope="col">Cost</th>
            <th class="py-1 text-right font-normal" scope="col">Carries, {{ answer.unit }}</th>
          </tr>
        </thead>
        <tbody>
          <tr
            v-for="one in [own, ...answer.alternatives]"
            :key="one.label"
            class="border-b border-rule"
          >
            <th class="py-1.5 pr-3 text-left text-[13.5px] font-normal text-ink" scope="row">
              <Sentence :text="one.label" />
            </th>
            <td v-for="name in names" :key="name" class="figures py-1.5 pr-3 text-right">
              {{ one.counts[name] }}
              <span v-if="one.sizes[name]" class="block text-ink-2">{{ one.sizes[name] }}</span>
            </td>
            <td class="figures py-1.5 pr-3 text-right whitespace-nowrap">
              {{ cost(one.per_hour) }}
            </td>
            <td class="figures py-1.5 text-right">
              {{ one.carried === null ? '–' : loadFigure(one.carried) }}
            </td>
          </tr>
        </tbody>
      </table>
    </div>
    <h2 class="pt-3">If it were otherwise</h2>
    <Action v-if="!open" @click="open = true">Work out what would change</Action>
    <Loading v-else-if="otherwise.isPending.value" what="what would change" />
    <Problem v-else-if="otherwise.isError.value" :error="otherwise.error.value" />
    <table v-else class="w-full text-[13.5px]" data-testid="otherwise">
      <thead>
        <tr class="label border-b border-rule text-left">
          <th class="py-1 pr-3 font-normal" scope="col">If</th>
          <th class="py-1 pr-3 font-normal" scope="col">The plan</th>
          <th class="py-1 pr-3 font-normal" scope="col">Then it takes</th>
          <th class="py-1 text-right font-normal" scope="col">Cost</th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="one in otherwise.data.value" :key="one.label" class="border-b border-rule">
          <th
            class="py-1.5 pr-3 text-left text-[13.5px] font-normal break-words text-ink"
            scope="row"
          >
            {{ one.label }}
          </th>
          <td class="py-1.5 pr-3">
            <Grade v-if="one.holds" grade="holds" />
            <span v-else class="whitespace-nowrap text-brick"
              ><span aria-hidden="true">✕</span> does not hold</span
            >
          </td>
          <td class="py-1.5 pr-3"><Sentence :text="one.adds || 'as planned'" /></td>
          <td class="figures py-1.5 text-right whitespace-nowrap">
            {{ one.per_hour === null ? '–' : cost(one.per_hour) }}
          </td>
        </tr>
      </tbody>
    </table>
  </section>
</template>
