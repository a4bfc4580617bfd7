<script setup lang="ts">
import { ref } from 'vue'
import { useExport, type ExportWhat } from '@/api/files'
import JobProgress from '@/ui/JobProgress.vue'
import Problem from '@/ui/Problem.vue'

/** The run as files. Large ones are made when they are asked for. */
const props = defineProps<{ run: number }>()

const made: { what: ExportWhat; holds: string }[] = [
  { what: 'seconds.csv', holds: 'each second' },
  { what: 'requests.parquet', holds: 'each request' },
  { what: 'kept.jsonl', holds: 'some, with headers and bodies' },
  { what: 'traces.jsonl', holds: 'what servers told of some' },
  { what: 'levels.parquet', holds: 'each level measured' },
  { what: 'metrics.parquet', holds: 'each sample of the meters' },
]
const link = ref<HTMLAnchorElement | null>(null)
const job = useExport(props.run, ({ what }) => {
  if (!link.value) return
  link.value.href = `/api/runs/${props.run}/${what}`
  link.value.click()
})
</script>

<template>
  <section class="border-t border-rule pt-2">
    <h2 class="text-[15.5px]">Files</h2>
    <ul>
      <li>
        <a :href="`/api/runs/${run}/result.json`" download>result.json</a>
        <span class="label ml-2">findings</span>
      </li>
      <li>
        <a :href="`/api/runs/${run}/facts.csv`" download>facts.csv</a>
        <span class="label ml-2">each figure found, with its error</span>
      </li>
      <li v-for="{ what, holds } in made" :key="what">
        <button
          type="button"
          class="text-copper hover:underline"
          :disabled="job.isPending.value"
          @click="job.mutate(what)"
        >
          {{ what }}
        </button>
        <span class="label ml-2">{{ holds }}</span>
      </li>
    </ul>
    <a ref="link" class="hidden" aria-hidden="true" download></a>
    <JobProgress :progress="job.progress.value" @cancel="job.cancel()" />
    <Problem v-if="job.isError.value" :error="job.error.value" />
  </section>
</template>
