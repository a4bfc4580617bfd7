<script setup lang="ts">
import { computed } from 'vue'
import type { Schemas } from '@/api/client'
import { useDeleteRun } from '@/api/queries'
import Action from '@/ui/Action.vue'
import Problem from '@/ui/Problem.vue'
import { amount, when } from '@/ui/format'

/** What a run takes, and the way to be rid of it. */
const props = defineProps<{ run: Schemas['RunDetail'] }>()
const change = useDeleteRun()
const parts = computed(() => {
  const { requests, seconds, metrics } = props.run.room ?? { requests: 0, seconds: 0, metrics: 0 }
  const named = { requests, seconds, metrics }
  const told = Object.entries(named).map(([name, size]) => `${name} ${amount(size, 'B')}`)
  return `${amount(requests + seconds + metrics, 'B')} (${told.join(', ')})`
})
</script>

<template>
  <section class="space-y-2 border-t border-rule pt-2" data-testid="room">
    <h2 class="text-[15.5px]">Room</h2>
    <p>It takes {{ parts }}.</p>
    <template v-if="run.deleted_at && run.undo_until">
      <p class="border-l-2 border-ochre pl-3" role="status">
        Deleted by {{ run.deleted_by }}. It stands in no list, and can be had back until
        {{ when(run.undo_until) }}.
      </p>
      <Action :busy="change.isPending.value" @click="change.mutate({ run: run.id, back: true })">
        Have it back
      </Action>
    </template>
    <Action
      v-else
      kind="danger"
      :busy="change.isPending.value"
      @click="change.mutate({ run: run.id, back: false })"
    >
      Delete run
    </Action>
    <Problem v-if="change.isError.value" :error="change.error.value" />
  </section>
</template>
