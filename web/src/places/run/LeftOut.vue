<script setup lang="ts">
import { computed, nextTick, ref } from 'vue'
import { useCountAgain, useLeaveOut } from '@/api/aside'
import type { Schemas } from '@/api/client'
import type { Stretch } from '@/plates/dragging'
import Action from '@/ui/Action.vue'
import JobProgress from '@/ui/JobProgress.vue'
import Problem from '@/ui/Problem.vue'
import { clock } from '@/ui/format'
import { useRole } from '@/ui/role'
import { momentOf } from './moments'

/** Stretches of the run that its findings do not rest on, and why; and the way to those of the whole run. */
const props = defineProps<{ run: Schemas['RunDetail']; stretch: Stretch | null }>()
/** Whether the findings of the whole run are shown. */
const whole = defineModel<boolean>('whole', { required: true })
defineEmits<{ look: [number] }>()

const { may } = useRole()
const leave = useLeaveOut(props.run.id)
const again = useCountAgain(props.run.id)
const jobs = [leave, again]
const writing = ref(false)
const from = ref('')
const until = ref('')
const why = ref('')
const wrong = ref('')
const form = ref<HTMLElement | null>(null)
const told = computed(() =>
  props.run.set_aside.map((one) => ({
    ...one,
    when: `${clock(one.from_s)} to ${clock(one.until_s)}`,
  })),
)
const busy = computed(() => jobs.some((job) => job.isPending.value))

async function write() {
  if (!may('planner')) return
  leave.reset()
  wrong.value = ''
  from.value = props.stretch ? clock(props.stretch.from) : ''
  until.value = props.stretch ? clock(props.stretch.until) : ''
  writing.value = true
  await nextTick()
  form.value?.querySelector<HTMLInputElement>('input[name=why]')?.focus()
}
function save() {
  const moments = [from.value, until.value].map(momentOf)
  const [begins, ends] = moments
  const place = moments.indexOf(null)
  if (begins == null || ends == null) {
    const text = [from.value, until.value][place]
    wrong.value = `${text || 'Nothing'} is no moment of the run: write it as minutes and seconds, such as 2:30.`
    return
  }
  wrong.value = ''
  const stretch = { from_s: Math.floor(begins), until_s: Math.ceil(ends), why: why.value }
  leave.mutate(stretch, {
    onSuccess: () => {
      writing.value = whole.value = false
      why.value = ''
    },
  })
}
</script>

<template>
  <section class="space-y-2 border-t border-rule pt-2" data-testid="left-out">
    <div class="flex items-baseline justify-between gap-2">
      <h2 class="text-[15.5px]">Left out of the findings</h2>
      <Action
        v-if="!writing"
        needs="planner"
        class="!px-2 !py-0.5 whitespace-nowrap"
        :disabled="busy"
        @click="write"
      >
        {{ stretch ? 'Leave this stretch out' : 'Leave seconds out' }}
      </Action>
    </div>
    <p v-if="!told.length && !writing" class="text-ink-2">
      Nothing: they rest on the whole run. What tells nothing of the system, such as a change
      half-way, can be left out; drag over the plate to choose it.
    </p>
    <ul v-if="told.length" class="space-y-1">
      <li v-for="one in told" :key="one.id" class="flex items-baseline gap-2">
        <button
          type="button"
          class="figures whitespace-nowrap text-copper hover:underline"
          :aria-label="`Look at ${one.when}`"
          @click="$emit('look', (one.from_s + one.until_s) / 2)"
        >
          {{ one.when }}
        </button>
        <span class="min-w-0 grow break-words"
          >{{ one.why }} <span class="label">{{ one.who }}</span></span
        >
        <button
          v-if="may('planner')"
          type="button"
          class="label whitespace-nowrap hover:text-ink"
          :disabled="busy"
          @click="again.mutate(one, { onSuccess: () => void (whole = false) })"
        >
          Count again
        </button>
      </li>
    </ul>
    <p v-if="told.length" role="status" data-testid="whole">
      <template v-if="whole">
        Shown are the findings of the whole run; in force are those without.
        <button type="button" class="text-copper hover:underline" @click="whole = false">
          Back to these
        </button>
      </template>
      <template v-else>
        The findings are without.
        <button type="button" class="text-copper hover:underline" @click="whole = true">
          Those of the whole run
        </button>
      </template>
    </p>
    <form
      v-if="writing"
      ref="form"
      class="grid grid-cols-[1fr_4.5rem_4.5rem] gap-2"
      @submit.prevent="save"
      @keydown.esc.stop="writing = false"
    >
      <input
        v-model="why"
        name="why"
        class="field"
        aria-label="Why it tells nothing"
        placeholder="why it tells nothing"
        maxlength="300"
      />
      <input v-model="from" class="field figures" aria-label="From, in minutes and seconds" />
      <input v-model="until" class="field figures" aria-label="To, in minutes and seconds" />
      <p v-if="wrong" class="col-span-3 text-brick" role="alert">✕ {{ wrong }}</p>
      <div class="col-span-3 flex gap-2">
        <Action kind="primary" :busy="busy" :disabled="!why.trim()" @click="save">
          Leave it out
        </Action>
        <Action :disabled="busy" @click="writing = false">Let it count</Action>
      </div>
      <button type="submit" class="hidden" />
    </form>
    <template v-for="(job, i) in jobs" :key="i">
      <JobProgress :progress="job.progress.value" @cancel="job.cancel" />
      <Problem v-if="job.isError.value" :error="job.error.value" />
    </template>
  </section>
</template>
