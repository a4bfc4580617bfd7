<script setup lang="ts">
import { useTargetUses, type TargetUse } from '@/api/targets'
import Problem from './Problem.vue'
import { when } from './format'

/** Where a system or an experiment leads outside of this machine, and whether load may go there. */
const props = defineProps<{ kind: 'system' | 'experiment'; id: number }>()
const uses = useTargetUses(props.kind, () => props.id)

function bears(use: TargetUse): string {
  return use.target?.ceilings ? `It bears ${use.target.ceilings}.` : ''
}
</script>

<template>
  <Problem v-if="uses.isError.value" :error="uses.error.value" />
  <section v-else-if="uses.data.value?.length" class="space-y-2" data-testid="targets">
    <p
      v-for="use in uses.data.value"
      :key="`${use.host}:${use.port}`"
      class="border-l-2 pl-3 break-words"
      :class="use.allowed ? 'border-copper' : 'border-brick'"
    >
      <template v-if="use.allowed">
        This is for real: load goes to <strong>{{ use.host }}</strong> port {{ use.port }}.
        {{ bears(use) }}
        <template v-if="use.target"
          >Tell {{ use.target.terms.contact }} before you start.
          <template v-if="use.target.ends_at">
            Allowed until {{ when(use.target.ends_at) }}.
          </template>
        </template>
      </template>
      <template v-else>
        <span class="text-brick">✕ {{ use.text }}</span> No load goes there, and no meter is read.
        <RouterLink :to="{ path: '/targets', query: { host: use.host, port: use.port } }">
          {{ use.target ? 'See Targets' : 'Prove that it is yours' }}</RouterLink
        >
      </template>
    </p>
  </section>
</template>
