<script setup lang="ts">
import { computed } from 'vue'
import type { Deed } from '@/api/access'
import { counted, when } from './format'

/** Something that somebody did, with what was before and after it. */
const props = defineProps<{ deed: Deed; withoutObject?: boolean }>()
const PLACES: Record<string, string> = {
  system: '/systems',
  journey: '/journeys',
  feed: '/journeys/feeds',
  experiment: '/experiments',
  run: '/runs',
}
const to = computed(() => {
  const place = PLACES[props.deed.kind]
  return place && props.deed.object_id !== null ? `${place}/${props.deed.object_id}` : undefined
})
/** Of what has no place of its own, whether its name says more than who did it. */
const named = computed(() => props.deed.object_name !== props.deed.who)
const said = (value: unknown) =>
  value === null || value === undefined
    ? 'nothing'
    : typeof value === 'string'
      ? value
      : JSON.stringify(value)
</script>

<template>
  <div
    class="min-w-0"
    :class="{ 'grid gap-x-6 sm:grid-cols-[1fr_auto] sm:items-baseline': !withoutObject }"
  >
    <p class="break-words">
      <strong>{{ deed.who }}</strong> {{ deed.did }}
      <template v-if="!withoutObject && to">
        {{ deed.kind }}
        <RouterLink :to="to">{{
          deed.kind === 'run' ? `${deed.object_id}, ${deed.object_name}` : deed.object_name
        }}</RouterLink>
      </template>
      <template v-else-if="!withoutObject && named">{{ deed.object_name }}</template>
      <span v-if="deed.note" class="text-ink-2"> ({{ deed.note }})</span>
    </p>
    <details v-if="deed.changes.length" class="min-w-0 text-[13.5px] sm:col-span-2">
      <summary class="label cursor-pointer">{{ counted(deed.changes.length, 'change') }}</summary>
      <dl class="mt-1 space-y-1 border-l border-rule pl-3">
        <div v-for="change in deed.changes" :key="change.path">
          <dt class="figures text-[12.5px] break-all">{{ change.path || 'the whole' }}</dt>
          <dd class="break-words">
            <del class="text-ink-2">{{ said(change.before) }}</del>
            → <ins class="no-underline">{{ said(change.after) }}</ins>
          </dd>
        </div>
      </dl>
    </details>
    <p class="label" :class="{ 'sm:order-first sm:col-start-2 sm:row-start-1': !withoutObject }">
      {{ when(deed.at) }}<template v-if="deed.address">, from {{ deed.address }}</template>
    </p>
  </div>
</template>
