<script setup lang="ts">
import { useOutlines } from '@/api/queries'
import Loading from '@/ui/Loading.vue'
import Problem from '@/ui/Problem.vue'
import { percent } from '@/ui/format'

const outlines = useOutlines()
</script>

<template>
  <h1 class="mb-4">Journeys</h1>
  <Loading v-if="outlines.isPending.value" what="the journeys" />
  <Problem v-else-if="outlines.isError.value" :error="outlines.error.value" />
  <p v-else-if="!outlines.data.value?.length" class="max-w-prose py-8">
    A journey is what one user does from start to end. Journeys are written in an experiment.
    <RouterLink to="/experiments/new">Begin with the example.</RouterLink>
  </p>
  <section v-for="e in outlines.data.value" :key="e.id" class="mb-8">
    <h2>
      <RouterLink :to="`/experiments/${e.id}`">{{ e.name }}</RouterLink>
    </h2>
    <ul class="mt-2 grid gap-4 md:grid-cols-2 xl:grid-cols-3">
      <li
        v-for="journey in e.outline.journeys"
        :key="journey.name"
        class="min-w-0 border-t border-rule pt-2"
      >
        <p class="font-semibold break-words">{{ journey.name }}</p>
        <p class="label">{{ percent(journey.share) }} of journeys begun</p>
        <ol class="mt-1 list-inside list-decimal">
          <li v-for="step in journey.steps" :key="step.name" class="break-words">
            {{ step.name }} <span class="label">then think: {{ step.think }}</span>
          </li>
        </ol>
      </li>
    </ul>
  </section>
</template>
