<script setup lang="ts">
import { computed, reactive, ref, useId } from 'vue'
import { asProblem } from '@/api/problem'
import { DAYS, useSaveTarget, type TargetLine } from '@/api/targets'
import Action from '@/ui/Action.vue'
import Choice from '@/ui/Choice.vue'
import Field from '@/ui/Field.vue'
import Problem from '@/ui/Problem.vue'

/** A target's terms, of a new one or of one there is. */
const props = defineProps<{
  way: TargetLine['way']
  target?: TargetLine
  host?: string
  port?: string
}>()
const emit = defineEmits<{ saved: [target: TargetLine]; cancel: [] }>()
const save = useSaveTarget()
const entered = computed(() => props.way === 'entered')
const before = props.target?.terms
const terms = reactive({
  host: before?.host ?? props.host ?? '',
  ports: before?.ports ?? props.port ?? '',
  scheme: before?.scheme ?? (props.way === 'entered' ? '' : 'https'),
  contact: before?.contact ?? '',
  reason: before?.reason ?? '',
  users: before?.users ?? undefined,
  requests: before?.requests ?? undefined,
  connections: before?.connections ?? undefined,
  closed: (before?.closed ?? []).map((hours) => ({ ...hours, days: [...hours.days] })),
  time_zone: before?.time_zone ?? Intl.DateTimeFormat().resolvedOptions().timeZone,
})
const lastDay = ref((props.target?.ends_at ?? '').slice(0, 10))
const endId = useId()
const SCHEMES = [
  { value: 'https', text: 'https' },
  { value: 'http', text: 'http' },
]
const schemes = computed(() =>
  entered.value ? [{ value: '', text: 'either' }, ...SCHEMES] : SCHEMES,
)
const problem = computed(() => (save.isError.value ? asProblem(save.error.value) : undefined))
const faultAt = (path: string) => problem.value?.problems.find((fault) => fault.path === path)
const SHOWN = ['host', 'ports', 'scheme', 'contact', 'reason', 'users', 'requests', 'ends_at']
const elsewhere = computed(() => {
  const faults = problem.value?.problems ?? []
  return save.isError.value && !faults.some((fault) => SHOWN.includes(fault.path))
})

async function submit() {
  // The whole of the last day is allowed, by the clock of whoever writes it.
  const ends = lastDay.value ? new Date(`${lastDay.value}T23:59:59`).toISOString() : null
  const written = { terms: { ...terms }, ends_at: entered.value ? ends : null }
  const made = await save
    .mutateAsync({ id: props.target?.id, way: props.way, written })
    .catch(() => undefined)
  if (made) emit('saved', made)
}
function turn(days: string[], day: string) {
  const place = days.indexOf(day)
  if (place < 0) days.push(day)
  else days.splice(place, 1)
}
</script>

<template>
  <form class="space-y-3" data-testid="target-form" @submit.prevent="submit">
    <p class="text-ink-2">
      {{
        entered
          ? 'Load may go there because you say so: for a reason, up to a ceiling, until a day.'
          : 'You are given a token. Once the host shows it, load may go there; it is looked for again before each run and each day.'
      }}
    </p>
    <Field
      v-model="terms.host"
      label="Host"
      :disabled="Boolean(target)"
      :placeholder="entered ? 'shop.example.com, 10.1.2.3 or 10.1.2.0/24' : 'shop.example.com'"
      :fault="faultAt('host')"
    />
    <div class="grid grid-cols-2 gap-3">
      <Field
        v-model="terms.ports"
        label="Ports"
        :disabled="Boolean(target) && !entered"
        :placeholder="entered ? 'all' : '443'"
        :hint="entered ? 'With commas; 8000-8100' : 'With commas'"
        :fault="faultAt('ports')"
      />
      <Choice
        v-model="terms.scheme"
        label="Scheme"
        :options="schemes"
        :disabled="Boolean(target) && !entered"
      />
    </div>
    <Field
      v-model="terms.contact"
      label="Contact"
      hint="Shown to whoever starts a run there"
      placeholder="Anna Berg, 0123 456"
      :fault="faultAt('contact')"
    />
    <Field v-if="entered" v-model="terms.reason" label="Reason" :fault="faultAt('reason')" />
    <fieldset class="grid grid-cols-3 gap-3">
      <legend class="label mb-1">It bears at most, from everybody together</legend>
      <Field v-model="terms.users" type="number" label="Users" :fault="faultAt('users')" />
      <Field
        v-model="terms.requests"
        type="number"
        label="Requests/s"
        :fault="faultAt('requests')"
      />
      <Field
        v-model="terms.connections"
        type="number"
        label="Connections"
        :fault="faultAt('connections')"
      />
    </fieldset>
    <div v-if="entered">
      <label class="label block" :for="endId">Last day</label>
      <input :id="endId" v-model="lastDay" type="date" class="field" />
      <p v-if="faultAt('ends_at')" class="text-[13px] text-brick" role="alert">
        ✕ {{ faultAt('ends_at')?.message }} {{ faultAt('ends_at')?.mend }}
      </p>
    </div>
    <fieldset class="space-y-2">
      <legend class="label">No load in these hours</legend>
      <div
        v-for="(hours, place) in terms.closed"
        :key="place"
        class="space-y-1 border-l-2 border-rule pl-3"
      >
        <p class="flex flex-wrap gap-x-3">
          <label v-for="day in DAYS" :key="day" class="inline-flex items-center gap-1">
            <input
              type="checkbox"
              :checked="hours.days.includes(day)"
              @change="turn(hours.days, day)"
            />
            {{ day }}
          </label>
        </p>
        <p class="flex flex-wrap items-center gap-2">
          <label class="sr-only" :for="`${endId}-from-${place}`">From</label>
          <input
            :id="`${endId}-from-${place}`"
            v-model="hours.start"
            type="time"
            class="field !w-36"
          />
          to
          <label class="sr-only" :for="`${endId}-to-${place}`">To</label>
          <input :id="`${endId}-to-${place}`" v-model="hours.end" type="time" class="field !w-36" />
          <button type="button" class="text-brick" @click="terms.closed.splice(place, 1)">
            Take out
          </button>
        </p>
      </div>
      <Action
        @click="terms.closed.push({ days: DAYS.slice(0, 5), start: '07:00', end: '09:00' })"
        >{{ terms.closed.length ? 'More hours' : 'Add hours' }}</Action
      >
      <Field
        v-if="terms.closed.length"
        v-model="terms.time_zone"
        label="Time zone of the hours"
        :fault="faultAt('time_zone')"
      />
    </fieldset>
    <Problem v-if="elsewhere" :error="save.error.value" />
    <div class="flex gap-2">
      <Action
        kind="primary"
        type="submit"
        :needs="entered ? 'administrator' : 'planner'"
        :busy="save.isPending.value"
        >{{ target ? 'Save' : entered ? 'Enter it' : 'Make a token' }}</Action
      >
      <Action @click="$emit('cancel')">Cancel</Action>
    </div>
  </form>
</template>
