<script setup lang="ts">
import { ref } from 'vue'
import { useRouter } from 'vue-router'
import { useCreateSystem, useSystems } from '@/api/systems'
import DraftListFoot from '@/ui/DraftListFoot.vue'
import DraftListHead from '@/ui/DraftListHead.vue'
import Loading from '@/ui/Loading.vue'
import Problem from '@/ui/Problem.vue'
import { when } from '@/ui/format'

const router = useRouter()
const archived = ref(false)
const systems = useSystems(archived)
const create = useCreateSystem()

async function make(source: string | null) {
  const made = await create.mutateAsync(source).catch(() => null)
  if (made) await router.push(`/systems/${made.id}`)
}
</script>

<template>
  <DraftListHead
    title="Systems"
    kind="system"
    :busy="create.isPending.value"
    @create="make(null)"
    @import="make"
  >
  </DraftListHead>
  <Problem v-if="create.isError.value" class="mb-4" :error="create.error.value" />
  <Loading v-if="systems.isPending.value" what="the systems" />
  <Problem v-else-if="systems.isError.value" :error="systems.error.value" />
  <p v-else-if="!systems.data.value?.length" class="max-w-prose py-8">
    <template v-if="archived">No system is archived.</template>
    <template v-else>
      A system is what you measure: its components, how many instances of what size, and where their
      metrics come from. Describe yours with “New system”, or import one.
    </template>
  </p>
  <ul v-else class="divide-y divide-rule border-y border-rule">
    <li
      v-for="s in systems.data.value"
      :key="s.id"
      class="grid gap-x-6 gap-y-1 py-4 md:grid-cols-[2fr_3fr]"
    >
      <div class="min-w-0">
        <RouterLink :to="`/systems/${s.id}`" class="text-[17px] font-semibold break-words">{{
          s.name
        }}</RouterLink>
        <p class="figures text-[13.5px] break-all">{{ s.base_url }}</p>
        <p class="label">Changed {{ when(s.changed_at) }}</p>
      </div>
      <div class="min-w-0 text-[13.5px]">
        <p class="break-words">
          {{ s.components.length ? s.components.join(', ') : 'No component yet' }} ·
          {{ s.meters }} meter{{ s.meters === 1 ? '' : 's' }}
        </p>
        <p v-if="s.experiments.length" class="break-words">
          Measured by
          <template v-for="(e, i) in s.experiments" :key="e.id">
            <RouterLink :to="`/experiments/${e.id}`">{{ e.name }}</RouterLink>{{
              i < s.experiments.length - 1 ? ', ' : ''
            }}
          </template>
        </p>
        <p v-if="s.last_run_id">
          Last <RouterLink :to="`/runs/${s.last_run_id}`">run {{ s.last_run_id }}</RouterLink> ·
          <RouterLink :to="`/systems/${s.id}/metrics`">metric shelf</RouterLink>
        </p>
      </div>
    </li>
  </ul>
  <DraftListFoot v-model:archived="archived" kind="system" />
</template>
