<script setup lang="ts">
import { computed, ref } from 'vue'
import { DAYS, useProve, type Hours, type TargetLine } from '@/api/targets'
import Action from '@/ui/Action.vue'
import Problem from '@/ui/Problem.vue'
import WhoDidWhat from '@/ui/WhoDidWhat.vue'
import { when } from '@/ui/format'
import TargetForm from './TargetForm.vue'

/** One target: how it stands, what it bears, and what may be done to it. */
const props = defineProps<{ target: TargetLine; path: string; record: string }>()
defineEmits<{ remove: [] }>()
const prove = useProve()
const changing = ref(false)
const telling = ref(false)
const SIGNS = { open: '●', closed: '◐', unproven: '○', lost: '✕', ended: '✕' }
const COLOURS = {
  open: 'text-moss',
  closed: 'text-ochre',
  unproven: 'text-ochre',
  lost: 'text-brick',
  ended: 'text-brick',
}
const needs = computed(() => (props.target.way === 'entered' ? 'administrator' : 'planner'))
const bears = computed(() =>
  props.target.ceilings ? `Bears ${props.target.ceilings}.` : 'No ceiling.',
)
const places = computed(() => {
  const { scheme, host, ports } = props.target.terms
  const written = host.includes(':') ? `[${host}]` : host
  return (ports ?? '').split(', ').map((port) => `${scheme}://${written}:${port}${props.path}`)
})

const named = computed(() => !/^[0-9.]+$|:/.test(props.target.terms.host))

function told(hours: Hours): string {
  const places = hours.days.map((day) => DAYS.indexOf(day)).sort((a, b) => a - b)
  const inARow = places.length > 2 && places.every((place, i) => place === places[0]! + i)
  const [first, last] = [DAYS[places[0]!], DAYS[places[places.length - 1]!]]
  const days = inARow ? `${first} to ${last}` : places.map((place) => DAYS[place]).join(', ')
  return `${days}, ${hours.start} to ${hours.end}`
}
</script>

<template>
  <li class="space-y-2 py-4" :data-target="target.name">
    <TargetForm
      v-if="changing"
      :way="target.way"
      :target="target"
      @saved="changing = false"
      @cancel="changing = false"
    />
    <template v-else>
      <div class="flex flex-wrap items-baseline gap-x-3">
        <h3 class="min-w-0 font-semibold break-all">{{ target.name }}</h3>
        <span class="label">{{
          target.way === 'entered' ? `entered by ${target.made_by}` : 'by proof of control'
        }}</span>
      </div>
      <p :class="COLOURS[target.state]" class="break-words" data-testid="target-state">
        <span aria-hidden="true">{{ SIGNS[target.state] }}</span> {{ target.text }}
      </p>
      <p class="break-words">
        {{ bears }}
        <template v-if="target.ends_at"> Until {{ when(target.ends_at) }}. </template>
        Contact: {{ target.terms.contact }}.
        <template v-if="target.terms.reason">{{ target.terms.reason }}</template>
      </p>
      <p v-for="(hours, place) in target.terms.closed" :key="place">
        No load {{ told(hours) }} ({{ target.terms.time_zone }}).
      </p>
      <div
        v-if="target.way === 'proven' && (target.state !== 'open' || telling)"
        class="space-y-1 border-l-2 border-copper pl-3"
      >
        <p>
          Let it answer this token, as plain text:
          <code class="figures break-all select-all">{{ target.token }}</code>
        </p>
        <p>at each of its addresses, without a redirect:</p>
        <ul>
          <li v-for="place in places" :key="place">
            <code class="figures break-all select-all">{{ place }}</code>
          </li>
        </ul>
        <p v-if="named" class="text-ink-2">
          For a public host a TXT record of
          <code class="figures break-all">{{ record }}.{{ target.terms.host }}</code> with the token
          counts too.
        </p>
        <p class="text-ink-2">Take it away, and a run under way ends within about a minute.</p>
      </div>
      <p v-if="target.addresses.length" class="label break-words">
        Load goes to {{ target.addresses.join(', ') }} only.
        <template v-if="target.looked_at"> Last looked {{ when(target.looked_at) }}. </template>
      </p>
      <Problem v-if="prove.isError.value" :error="prove.error.value" />
      <div class="flex flex-wrap gap-2">
        <Action
          v-if="target.way === 'proven'"
          needs="planner"
          :kind="target.state === 'open' ? 'plain' : 'primary'"
          :busy="prove.isPending.value"
          :aria-label="`Look for the token of ${target.name} now`"
          @click="prove.mutate(target.id)"
          >{{ prove.isPending.value ? 'Looking …' : 'Look for the token now' }}</Action
        >
        <Action
          v-if="target.way === 'proven' && target.state === 'open'"
          @click="telling = !telling"
          >{{ telling ? 'Hide the token' : 'Show the token' }}</Action
        >
        <Action :needs="needs" :aria-label="`Change ${target.name}`" @click="changing = true"
          >Change</Action
        >
        <Action
          kind="danger"
          :needs="needs"
          :aria-label="`Remove ${target.name}`"
          @click="$emit('remove')"
          >Remove</Action
        >
      </div>
      <details>
        <summary class="label cursor-pointer">Who did what</summary>
        <WhoDidWhat :id="target.id" :key="target.text" kind="target" class="mt-2" />
      </details>
    </template>
  </li>
</template>
