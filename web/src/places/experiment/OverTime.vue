<script setup lang="ts">
import { useElementVisibility } from '@vueuse/core'
import { ref, watch } from 'vue'
import { useHistory } from '@/api/history'
import Sentence from '@/ui/Sentence.vue'

/** What an experiment's runs say over time, in a sentence; asked for once it comes into sight. */
const props = defineProps<{ id: number }>()
const box = ref<HTMLElement | null>(null)
const seen = useElementVisibility(box)
const wanted = ref(false)
watch(seen, (now) => (wanted.value ||= now))
const history = useHistory(() => props.id, null, wanted)
</script>

<template>
  <p ref="box" class="min-h-px break-words" data-testid="over-time">
    <template v-if="history.data.value?.runs.length">
      <RouterLink :to="`/experiments/${id}/history`">Over time</RouterLink>:
      <Sentence :text="history.data.value.sentence" />
    </template>
  </p>
</template>
