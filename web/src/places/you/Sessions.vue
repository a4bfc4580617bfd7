<script setup lang="ts">
import { useEndOtherSessions, useSessions } from '@/api/access'
import Action from '@/ui/Action.vue'
import Problem from '@/ui/Problem.vue'
import { when } from '@/ui/format'

/** Where one is signed in. */
const sessions = useSessions()
const end = useEndOtherSessions()
</script>

<template>
  <section class="space-y-3" aria-label="Where you are signed in">
    <h2>Where you are signed in</h2>
    <Problem v-if="sessions.isError.value" :error="sessions.error.value" />
    <ul class="divide-y divide-rule border-y border-rule">
      <li v-for="(session, i) in sessions.data.value" :key="i" class="py-2">
        <p class="break-words">
          {{ session.address || 'from an unknown address' }}
          <span v-if="session.this" class="label">this session</span>
        </p>
        <p class="label break-words">
          {{ session.since ? `since ${when(session.since)}` : 'since before this was noted'
          }}<template v-if="session.agent">, {{ session.agent }}</template>
        </p>
      </li>
    </ul>
    <Action
      v-if="(sessions.data.value?.length ?? 0) > 1"
      :busy="end.isPending.value"
      @click="end.mutate()"
    >
      End the others
    </Action>
    <Problem v-if="end.isError.value" :error="end.error.value" />
  </section>
</template>
