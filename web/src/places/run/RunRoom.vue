<script setup lang="ts">
import { computed } from 'vue'
import type { Schemas } from '@/api/client'
import { useDeleteRun, useKeepRun } from '@/api/queries'
import Action from '@/ui/Action.vue'
import Problem from '@/ui/Problem.vue'
import { amount, when } from '@/ui/format'

/** What a run takes, how long it is kept, and the way to be rid of it. */
const props = defineProps<{ run: Schemas['RunDetail'] }>()
const change = useDeleteRun()
const keep = useKeepRun()
const parts = computed(() => {
  const { requests, seconds, metrics } = props.run.room ?? { requests: 0, seconds: 0, metrics: 0 }
  const named = { requests, seconds, metrics }
  const told = Object.entries(named).map(([name, size]) => `${name} ${amount(size, 'B')}`)
  return `${amount(requests + seconds + metrics, 'B')} (${told.join(', ')})`
})
const dates = computed(() => {
  if (props.run.seeded)
    return ['It came without its single seconds and requests: only rows of ten seconds are there.']
  const { requests, seconds, run } = props.run.goes
  const parts: [string, string | null | undefined][] = [
    ['Its requests', requests],
    ['Its seconds and metrics', seconds],
    ['The run itself', run],
  ]
  return parts.flatMap(([what, at]) => {
    if (!at) return []
    const verb = new Date(at) < new Date() ? 'went' : what.startsWith('Its') ? 'go' : 'goes'
    return [
      `${what} ${verb} on ${new Date(at).toLocaleDateString(undefined, { dateStyle: 'long' })}.`,
    ]
  })
})
</script>

<template>
  <section class="space-y-2 border-t border-rule pt-2" data-testid="room">
    <h2 class="text-[15.5px]">Room</h2>
    <p>It takes {{ parts }}.</p>
    <p v-for="line in dates" :key="line">{{ line }}</p>
    <p v-if="run.kept">It is kept always, however long its system keeps runs.</p>
    <template v-if="run.deleted_at && run.undo_until">
      <p class="border-l-2 border-ochre pl-3" role="status">
        Deleted by {{ run.deleted_by }}. It stands in no list, and can be had back until
        {{ when(run.undo_until) }}.
      </p>
      <Action
        needs="administrator"
        :busy="change.isPending.value"
        @click="change.mutate({ run: run.id, back: true })"
      >
        Have it back
      </Action>
    </template>
    <div v-else class="flex flex-wrap gap-2">
      <Action
        needs="planner"
        :busy="keep.isPending.value"
        @click="keep.mutate({ run: run.id, kept: !run.kept })"
      >
        {{ run.kept ? 'Keep no longer than others' : 'Keep always' }}
      </Action>
      <Action
        needs="administrator"
        kind="danger"
        :busy="change.isPending.value"
        @click="change.mutate({ run: run.id, back: false })"
      >
        Delete run
      </Action>
    </div>
    <Problem v-if="change.isError.value" :error="change.error.value" />
    <Problem v-if="keep.isError.value" :error="keep.error.value" />
  </section>
</template>
