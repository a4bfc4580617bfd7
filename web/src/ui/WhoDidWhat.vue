<script setup lang="ts">
import { computed } from 'vue'
import { useDeeds } from '@/api/access'
import DeedLine from './DeedLine.vue'
import Problem from './Problem.vue'

/** The last that was done to one object, in its margin. */
const props = defineProps<{ kind: string; id: number; revision?: number }>()
const SHOWN = 5
// Asked anew when the object has another revision.
const deeds = useDeeds(() => ({ kind: props.kind, object: props.id }))
const shown = computed(() => deeds.data.value?.deeds.slice(0, SHOWN) ?? [])
</script>

<template>
  <section class="space-y-2 border-t border-rule pt-3" aria-label="Who did what">
    <h2>Who did what</h2>
    <Problem v-if="deeds.isError.value" :error="deeds.error.value" />
    <p v-else-if="deeds.isSuccess.value && !shown.length" class="text-ink-2">
      Nothing yet, since this is written down.
    </p>
    <ol class="space-y-2">
      <li v-for="deed in shown" :key="deed.id"><DeedLine :deed="deed" without-object /></li>
    </ol>
    <p v-if="(deeds.data.value?.deeds.length ?? 0) > SHOWN">
      <RouterLink :to="{ path: '/deeds', query: { kind, object: id } }">All of it</RouterLink>
    </p>
  </section>
</template>
