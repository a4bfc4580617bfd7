<script setup lang="ts">
import { computed } from 'vue'
import { asProblem } from '@/api/problem'

const props = defineProps<{ error: unknown }>()
const problem = computed(() => asProblem(props.error))
</script>

<template>
  <div role="alert" class="border-l-2 border-brick py-1 pl-3">
    <p class="font-semibold text-brick">✕ {{ problem.title }}</p>
    <ul v-if="problem.problems.length" class="mt-1 space-y-2">
      <li v-for="fault in problem.problems" :key="fault.path + fault.message">
        <code class="figures text-[13px] break-all">{{ fault.path }}</code>
        <p class="break-words">{{ fault.message }} {{ fault.mend }}</p>
      </li>
    </ul>
    <p v-else class="break-words">{{ problem.detail }}</p>
    <slot />
  </div>
</template>
