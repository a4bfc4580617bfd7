<script setup lang="ts">
import { computed } from 'vue'
import type { Schemas } from '@/api/client'
import { useHalt } from '@/api/now'
import { useStopRun } from '@/api/queries'
import Action from '@/ui/Action.vue'
import Problem from '@/ui/Problem.vue'
import { clock, counted, when } from '@/ui/format'
import Steering from './Steering.vue'

/** A run under way: how far it is, and what can be done about it. */
const props = defineProps<{
  run: Schemas['RunDetail']
  elapsed: number
  /** What is ordered now, by group. */
  ordered: Record<string, number>
}>()
defineEmits<{ prospect: [Schemas['ProfileOutline'] | null] }>()

const halt = useHalt()
const stop = useStopRun()
const profile = computed(() => props.run.outline.profile)
const left = computed(() => Math.max(0, profile.value.duration_s - props.elapsed))
const standing = computed(() => {
  if (props.run.mode === 'paused') return 'Paused: the clock of the profile stands.'
  if (props.run.mode === 'held')
    return 'Held: the load stays as it is until somebody changes it or ends the run.'
  return ''
})
</script>

<template>
  <section class="space-y-3" data-testid="progress">
    <p>{{ run.cause }}</p>
    <p v-if="run.again">
      When it has finished, {{ counted(run.again, 'run') }} of the same
      {{ run.again === 1 ? 'follows' : 'follow' }}; stop it, and none does.
    </p>
    <p v-if="run.begins_at && !run.begun_at">Load is to begin at {{ when(run.begins_at) }}.</p>
    <template v-if="run.begun_at">
      <progress
        v-if="!profile.endless"
        class="h-2 w-full"
        :value="elapsed"
        :max="profile.duration_s"
        aria-label="Part of the load profile done"
      />
      <p class="figures text-[13.5px]">
        {{ clock(elapsed) }} done<template v-if="!profile.endless && run.state === 'running'"
          >, {{ profile.at_most ? 'at most ' : '' }}{{ clock(left) }} left</template
        >
      </p>
      <p v-if="standing && run.state === 'running'" class="label" data-testid="mode">
        {{ standing }}
      </p>
    </template>
    <Steering :run="run" :ordered="ordered" @prospect="$emit('prospect', $event)">
      <template #stop>
        <Action
          v-if="!run.stop_requested_by"
          needs="planner"
          kind="danger"
          class="!px-2 !py-1"
          title="Users finish the step they are in, and the run ends."
          :busy="stop.isPending.value"
          @click="stop.mutate(run.id)"
        >
          ■ Stop run
        </Action>
      </template>
    </Steering>
    <p v-if="run.stop_requested_by && halt?.halted">
      {{ run.stop_requested_by }} ends it; what users are in is cut off.
    </p>
    <p v-else-if="run.stop_requested_by">
      {{ run.stop_requested_by }} asked to stop; users finish their step.
    </p>
    <Problem v-if="stop.isError.value" :error="stop.error.value" />
  </section>
</template>
