<script setup lang="ts">
import { ref } from 'vue'
import { useHow } from '@/api/how'
import { asProblem } from '@/api/problem'
import Loading from '@/ui/Loading.vue'
import Sentence from '@/ui/Sentence.vue'

/** How a conclusion was computed: its formula with this run's numbers, the data, the source, and its limits. */
const props = defineProps<{ run: number; kind: string }>()
const open = ref(false)
const how = useHow(
  () => props.run,
  () => props.kind,
  open,
)
</script>

<template>
  <details
    class="mt-1 text-[13.5px]"
    :data-how="kind"
    @toggle="open = ($event.target as HTMLDetailsElement).open"
  >
    <summary class="label cursor-pointer">How this was computed</summary>
    <template v-if="open">
      <Loading v-if="how.isPending.value" what="the formula" />
      <p v-else-if="how.isError.value" class="label" role="status">
        {{ asProblem(how.error.value).detail }}
      </p>
      <div v-else-if="how.data.value" class="mt-1 space-y-2">
        <p class="figures border-l-2 border-copper pl-2 break-words">
          {{ how.data.value.formula }}
        </p>
        <dl class="grid grid-cols-[auto_minmax(0,1fr)] gap-x-3 gap-y-0.5">
          <template v-for="(one, i) in how.data.value.numbers" :key="i">
            <dt class="figures text-right whitespace-nowrap">{{ one.value }}</dt>
            <dd class="min-w-0 break-words text-ink-2">
              <span v-if="one.symbol" class="figures mr-1.5 text-ink">{{ one.symbol }}</span>
              <Sentence :text="one.says" />
            </dd>
          </template>
        </dl>
        <p class="break-words"><Sentence :text="how.data.value.worked" /></p>
        <p class="break-words"><span class="label">Data:</span> {{ how.data.value.data }}</p>
        <p class="break-words"><span class="label">Source:</span> {{ how.data.value.source }}</p>
        <p class="label">Its limits:</p>
        <ul class="list-disc space-y-0.5 pl-5">
          <li v-for="limit in how.data.value.limits" :key="limit" class="break-words">
            {{ limit }}
          </li>
        </ul>
      </div>
    </template>
  </details>
</template>
