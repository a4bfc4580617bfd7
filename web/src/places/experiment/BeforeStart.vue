<script setup lang="ts">
import { computed, watch } from 'vue'
import { useReadiness } from '@/api/experiments'
import { useTargetUses } from '@/api/targets'
import Problem from '@/ui/Problem.vue'

/** Everything a run needs: what blocks it, what would spoil it, and what is in order. */
const props = defineProps<{ id: number; revision: number | undefined }>()
const readiness = useReadiness(() => props.id)
watch(
  () => props.revision,
  () => void readiness.refetch(),
)
const SIGNS = { ready: '○', warns: '◐', blocks: '✕' }
const COLOURS = { ready: 'text-moss', warns: 'text-ochre', blocks: 'text-brick' }
const EDGES = { ready: 'border-rule', warns: 'border-ochre', blocks: 'border-brick' }
const uses = useTargetUses('experiment', () => props.id)
/** Places that may not be loaded are told above, with what to do about each. */
const toldAbove = computed(() => uses.data.value?.some((use) => !use.allowed) ?? false)
const lines = computed(() => {
  const told = (readiness.data.value?.lines ?? []).filter(
    (line) => line.key !== 'targets' || !toldAbove.value,
  )
  return (['blocks', 'warns'] as const).flatMap((state) => told.filter((l) => l.state === state))
})
const ready = computed(
  () => readiness.data.value?.lines.filter((line) => line.state === 'ready') ?? [],
)
</script>

<template>
  <section class="space-y-2" aria-label="Before it starts" data-testid="readiness">
    <h2>Before it starts</h2>
    <p v-if="readiness.isPending.value" class="text-ink-2">Asking the meters …</p>
    <Problem v-else-if="readiness.isError.value" :error="readiness.error.value" />
    <template v-else>
      <p
        v-for="line in lines"
        :key="line.key + line.text"
        class="border-l-2 pl-3 break-words"
        :class="EDGES[line.state]"
        :data-state="line.state"
      >
        <span :class="COLOURS[line.state]" aria-hidden="true">{{ SIGNS[line.state] }}</span>
        <span class="sr-only">{{ line.state }}:</span>
        {{ line.text }} {{ line.mend }}
        <RouterLink v-if="line.link" :to="line.link">Go there</RouterLink>
      </p>
      <details v-if="ready.length">
        <summary class="cursor-pointer">
          <span class="text-moss" aria-hidden="true">○</span> {{ ready.length }} in order
        </summary>
        <ul class="mt-1 space-y-1 pl-4">
          <li v-for="line in ready" :key="line.key + line.text" class="break-words text-ink-2">
            {{ line.text }}
          </li>
        </ul>
      </details>
    </template>
  </section>
</template>
