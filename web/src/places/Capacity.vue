<script setup lang="ts">
import { computed, ref } from 'vue'
import { useRouter } from 'vue-router'
import { useCapacityPlans, useCreateCapacityPlan } from '@/api/capacity'
import { useSystems } from '@/api/systems'
import Choice from '@/ui/Choice.vue'
import DraftListFoot from '@/ui/DraftListFoot.vue'
import DraftListHead from '@/ui/DraftListHead.vue'
import Loading from '@/ui/Loading.vue'
import Problem from '@/ui/Problem.vue'
import { day, loadFigure, when } from '@/ui/format'

const router = useRouter()
const archived = ref(false)
const plans = useCapacityPlans(archived)
const systems = useSystems()
const create = useCreateCapacityPlan()
const chosen = ref<string>()
const options = computed(() =>
  (systems.data.value ?? []).map((one) => ({ value: String(one.id), text: one.name })),
)
/** A plan rests on runs: a system that has some comes first. */
const likely = computed(() => systems.data.value?.find((one) => one.last_run_id !== null)?.id)
const system = computed(() => chosen.value ?? likely.value?.toString() ?? options.value[0]?.value)

async function make(given: { source?: string; system_id?: number }) {
  const made = await create.mutateAsync(given).catch(() => null)
  if (made) await router.push(`/capacity/${made.id}`)
}
</script>

<template>
  <DraftListHead
    title="Capacity"
    kind="capacity plan"
    :busy="create.isPending.value || !system"
    @create="make({ system_id: Number(system) })"
    @import="make({ source: $event })"
  >
    <Choice
      v-if="options.length > 1"
      label="For which system"
      label-hidden
      :model-value="system"
      :options="options"
      @update:model-value="chosen = $event"
    />
  </DraftListHead>
  <Problem v-if="create.isError.value" class="mb-4" :error="create.error.value" />
  <Loading v-if="plans.isPending.value" what="the capacity plans" />
  <Problem v-else-if="plans.isError.value" :error="plans.error.value" />
  <p v-else-if="!plans.data.value?.length" class="max-w-prose py-8">
    <template v-if="archived">No capacity plan is archived.</template>
    <template v-else-if="!options.length">
      A capacity plan says how many instances of what an expected load needs. It rests on a run of a
      system: describe one under <RouterLink to="/systems">Systems</RouterLink> first.
    </template>
    <template v-else>
      A capacity plan says how many instances of each component an expected load needs, what they
      cost, and until when those that are there are enough. Write down the peaks you expect with
      “New capacity plan”.
    </template>
  </p>
  <ul v-else class="divide-y divide-rule border-y border-rule">
    <li
      v-for="one in plans.data.value"
      :key="one.id"
      class="grid gap-x-6 gap-y-1 py-4 md:grid-cols-[2fr_3fr]"
    >
      <div class="min-w-0">
        <RouterLink :to="`/capacity/${one.id}`" class="text-[17px] font-semibold break-words">{{
          one.name
        }}</RouterLink>
        <p class="label">Changed {{ when(one.changed_at) }}</p>
      </div>
      <div class="min-w-0 text-[13.5px]">
        <p class="break-words">{{ one.system }}</p>
        <p>{{ loadFigure(one.load) }} {{ one.unit }} expected by {{ day(one.on) }}</p>
      </div>
    </li>
  </ul>
  <DraftListFoot v-model:archived="archived" kind="capacity plan" />
</template>
