<script setup lang="ts">
import { useHistory } from '@/api/history'
import Sentence from '@/ui/Sentence.vue'

/** What an experiment's runs say over time, in a sentence. */
const props = defineProps<{ id: number }>()
const history = useHistory(() => props.id)
</script>

<template>
  <p v-if="history.data.value?.runs.length" class="break-words" data-testid="over-time">
    <RouterLink :to="`/experiments/${id}/history`">Over time</RouterLink>:
    <Sentence :text="history.data.value.sentence" />
  </p>
</template>
