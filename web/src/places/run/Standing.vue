<script setup lang="ts">
import { computed, ref } from 'vue'
import type { Schemas } from '@/api/client'
import { useLeaveOut, useRemark, useTakeBaseline } from '@/api/history'
import Action from '@/ui/Action.vue'
import Field from '@/ui/Field.vue'
import Problem from '@/ui/Problem.vue'
import Sentence from '@/ui/Sentence.vue'
import { day } from '@/ui/format'
import { useRole } from '@/ui/role'

/** What a run is among the others of its experiment: against the baseline, or itself it; noted, or left out. */
const props = defineProps<{ run: Schemas['RunDetail'] }>()
const take = useTakeBaseline(props.run.id)
const remark = useRemark(props.run.id)
const leave = useLeaveOut(props.run.id)
const { may } = useRole()
const is = computed(() => props.run.baseline === props.run.id)
const leaving = ref(false)
const why = ref('')
function out() {
  if (why.value.trim()) leave.mutate(why.value, { onSuccess: () => (leaving.value = false) })
}
</script>

<template>
  <section class="space-y-2 border-t border-rule pt-2" data-testid="standing">
    <h2 class="text-[15.5px]">Among its others</h2>
    <p v-if="run.turn" class="text-ink-2">
      A turn is compared with those of the other candidates. Left out, it takes its block with it.
    </p>
    <p v-else-if="is">
      It is the baseline since {{ day(run.baseline_since ?? '') }}: each new run of the experiment
      is compared with it.
    </p>
    <template v-else>
      <p v-if="run.against" class="break-words">
        Against
        <RouterLink :to="`/runs/${run.id}/against/${run.against.run}`"
          >run {{ run.against.run }}</RouterLink
        >, its baseline then: <Sentence :text="run.against.sentence" />
      </p>
      <p v-if="run.baseline && run.baseline !== run.against?.run">
        The baseline is
        <RouterLink :to="`/runs/${run.baseline}`">run {{ run.baseline }}</RouterLink> since
        {{ day(run.baseline_since ?? '') }}.
        <RouterLink :to="`/runs/${run.id}/against/${run.baseline}`">Compare with it</RouterLink>
      </p>
      <p v-if="!run.baseline" class="text-ink-2">
        No baseline is taken{{ run.seeded ? '' : ' among measured runs' }}. Take one, and each new
        run is compared with it when it ends.
      </p>
    </template>
    <p v-if="!run.turn">
      <RouterLink :to="`/experiments/${run.experiment_id}/history`"
        >All its runs over time</RouterLink
      >
    </p>
    <Field
      v-if="may('planner')"
      label="Note on this run"
      placeholder="a release, a change, what was odd"
      :model-value="run.remark"
      @update:model-value="remark.mutate(String($event ?? ''))"
    />
    <p v-else-if="run.remark" class="break-words">{{ run.remark }}</p>
    <p v-if="run.left_out" class="break-words">
      {{ run.turn ? 'Left out' : 'Left out of the history' }}: {{ run.left_out }}.
    </p>
    <form v-if="leaving" class="flex items-end gap-2" @submit.prevent="out">
      <Field v-model="why" class="grow" label="Why it does not count" />
      <Action :busy="leave.isPending.value" @click="out">Leave out</Action>
    </form>
    <div class="flex flex-wrap gap-2">
      <Action
        v-if="!run.turn"
        needs="planner"
        :busy="take.isPending.value"
        @click="take.mutate(!is)"
      >
        {{ is ? 'No longer the baseline' : 'Take as baseline' }}
      </Action>
      <Action
        v-if="run.left_out"
        needs="planner"
        :busy="leave.isPending.value"
        @click="leave.mutate('')"
      >
        Count it again
      </Action>
      <Action v-else-if="!leaving" needs="planner" @click="leaving = true">
        {{ run.turn ? 'Leave this turn out' : 'Leave out of the history' }}
      </Action>
    </div>
    <Problem
      v-for="one in [take, remark, leave].filter((m) => m.isError.value)"
      :key="String(one.error.value)"
      :error="one.error.value"
    />
  </section>
</template>
