<script setup lang="ts">
import { useRouter } from 'vue-router'
import { useSystemHistory } from '@/api/history'
import { useSystem } from '@/api/systems'
import HistoryPlate from '@/plates/HistoryPlate.vue'
import Loading from '@/ui/Loading.vue'
import Problem from '@/ui/Problem.vue'
import Sentence from '@/ui/Sentence.vue'

/** What the runs of all experiments on a system say over time, each with its most telling figure. */
const props = defineProps<{ id: number }>()
const router = useRouter()
const system = useSystem(props.id)
const answer = useSystemHistory(() => props.id)
</script>

<template>
  <h1 class="mb-1 break-words">
    <RouterLink :to="`/systems/${id}`">{{ system.data.value?.name ?? 'System' }}</RouterLink> over
    time
  </h1>
  <Loading v-if="answer.isPending.value" what="the histories" />
  <Problem v-else-if="answer.isError.value" :error="answer.error.value" />
  <p v-else-if="!answer.data.value?.length" class="py-6">
    No experiment on it has been run yet.
    <RouterLink to="/experiments">Go to the experiments</RouterLink>
  </p>
  <section v-for="one in answer.data.value" :key="one.experiment_id" class="mb-8">
    <h2 class="break-words">
      <RouterLink :to="`/experiments/${one.experiment_id}/history`">{{
        one.experiment
      }}</RouterLink>
    </h2>
    <p class="max-w-prose break-words"><Sentence :text="one.sentence" /></p>
    <template v-if="one.figures[0]">
      <p class="label"><Sentence :text="one.figures[0].name" />, run by run</p>
      <HistoryPlate
        :history="one"
        :shown="one.figures[0]"
        :pointed="null"
        @open="router.push(`/runs/${$event}`)"
      />
    </template>
  </section>
</template>
