<script setup lang="ts">
import { useHalt, useLift } from '@/api/now'
import Action from './Action.vue'
import Problem from './Problem.vue'
import { when } from './format'

/** Says on every page that nothing makes load, and who may change that. */
const halt = useHalt()
const lift = useLift()
</script>

<template>
  <div v-if="halt?.halted" role="status" class="border-b border-brick bg-card">
    <div class="mx-auto flex max-w-[1440px] flex-wrap items-center gap-x-4 gap-y-2 px-5 py-2">
      <p class="min-w-0 break-words">
        <strong class="text-brick">■ All load is halted</strong>
        by {{ halt.by }}, {{ when(halt.at ?? '')
        }}<template v-if="halt.why">: {{ halt.why }}</template
        >. No run and no trial begins until it is lifted.
      </p>
      <Action
        v-if="halt.may_lift"
        class="ml-auto"
        :busy="lift.isPending.value"
        @click="lift.mutate()"
      >
        Lift it
      </Action>
      <p v-else class="label ml-auto">{{ halt.by }} or an administrator can lift it.</p>
      <Problem v-if="lift.isError.value" :error="lift.error.value" />
    </div>
  </div>
</template>
