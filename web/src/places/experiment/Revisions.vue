<script setup lang="ts">
import { computed, ref } from 'vue'
import { useRestore, type ExperimentDetail } from '@/api/experiments'
import Problem from '@/ui/Problem.vue'
import { when } from '@/ui/format'
import { useRole } from '@/ui/role'

/** What was changed, from one revision to the next. */
const props = defineProps<{ experiment: ExperimentDetail; changeable: boolean }>()
const FEW = 5
const { may } = useRole()
const restore = useRestore(props.experiment.id)
const all = ref(false)
const shown = computed(() =>
  all.value ? props.experiment.revisions : props.experiment.revisions.slice(0, FEW),
)
function told(changes: string[] | null): string {
  if (changes === null) return 'What it changed was not noted.'
  return changes.length ? `${changes.join('; ')}.` : 'The beginning.'
}
</script>

<template>
  <section aria-label="Revisions">
    <h2 class="mb-1">Revisions</h2>
    <ol class="space-y-2">
      <li
        v-for="r in shown"
        :key="r.number"
        class="border-l-2 pl-3"
        :class="r.in_force ? 'border-copper' : 'border-rule'"
      >
        <p class="flex justify-between gap-3">
          <span class="label"
            >Revision {{ r.number }}, {{ when(r.created_at) }}{{ r.author ? `, ${r.author}` : ''
            }}{{ r.undone ? ', undone' : '' }}</span
          >
          <button
            v-if="!r.in_force && may('planner') && changeable"
            type="button"
            class="shrink-0 text-copper hover:underline"
            :aria-label="`Bring revision ${r.number} back`"
            @click="restore.mutate(r.number)"
          >
            Bring back
          </button>
          <span v-else-if="r.in_force" class="label shrink-0">in force</span>
        </p>
        <p class="text-[13.5px] break-words">{{ told(r.changes) }}</p>
      </li>
    </ol>
    <button
      v-if="experiment.revisions.length > FEW"
      type="button"
      class="label mt-1 hover:text-ink"
      @click="all = !all"
    >
      {{ all ? 'Only the newest' : `All ${experiment.revisions.length} revisions` }}
    </button>
    <Problem v-if="restore.isError.value" :error="restore.error.value" />
  </section>
</template>
