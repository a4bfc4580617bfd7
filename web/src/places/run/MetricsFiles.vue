<script setup lang="ts">
import { computed, reactive, ref, watch } from 'vue'
import type { Schemas } from '@/api/client'
import { useAddFile, useLookAtFile, useRemoveFile, type FileUse } from '@/api/files'
import Action from '@/ui/Action.vue'
import Choice from '@/ui/Choice.vue'
import Field from '@/ui/Field.vue'
import JobProgress from '@/ui/JobProgress.vue'
import Problem from '@/ui/Problem.vue'
import { seconds } from '@/ui/format'

/** Metrics added after the run from a file: which columns, on which clock. */
const props = defineProps<{ run: Schemas['RunDetail'] }>()

const look = useLookAtFile(props.run.id)
const add = useAddFile(props.run.id)
const remove = useRemoveFile(props.run.id)
const input = ref<HTMLInputElement | null>(null)
const file = ref<File | null>(null)
const here = Intl.DateTimeFormat().resolvedOptions().timeZone
const use = reactive({
  component: props.run.outline.system.components[0]?.name ?? '',
  time_column: '',
  zone: here,
  offset_s: 0,
})
const chosen = reactive(new Map<string, FileUse['columns'][number]>())

const found = computed(() => look.data.value?.found)
const components = computed(() =>
  props.run.outline.system.components.map((c) => ({ value: c.name, text: c.name })),
)
const times = computed(() =>
  (found.value?.columns ?? [])
    .filter((c) => c.role !== 'text')
    .map((c) => ({ value: c.name, text: c.name })),
)
const numbers = computed(() =>
  (found.value?.columns ?? []).filter((c) => c.role === 'number' && c.name !== use.time_column),
)
const clear = computed(
  () => found.value?.match != null && found.value.match >= found.value.clear_from,
)
const kinds = [
  { value: 'gauge', text: 'a value' },
  { value: 'counter', text: 'a counter' },
]
const resources = [
  { value: '', text: 'no resource' },
  ...['cpu', 'disk', 'memory', 'network', 'pool', 'threads', 'queue'].map((kind) => ({
    value: kind,
    text: kind,
  })),
]

async function ask() {
  if (!file.value) return
  await look
    .mutateAsync({ file: file.value, time_column: use.time_column, zone: use.zone })
    .catch(() => null)
}
async function choose() {
  file.value = input.value?.files?.[0] ?? null
  chosen.clear()
  use.time_column = ''
  add.reset()
  await ask()
}
watch(found, (now) => {
  if (!now) return
  use.time_column = now.time_column ?? ''
  use.offset_s = clear.value ? (now.offset_s ?? 0) : 0
})
function toggle(column: Schemas['ColumnLine']) {
  if (!chosen.delete(column.name))
    chosen.set(column.name, {
      column: column.name,
      metric: column.name.slice(0, 80),
      kind: column.grows ? 'counter' : 'gauge',
      resource: null,
      capacity: null,
    })
}
function setResource(column: string, kind: string | undefined) {
  const one = chosen.get(column)
  if (!one) return
  one.resource = kind || null
  one.capacity = kind ? (one.capacity ?? 100) : null
}
async function keep() {
  if (!file.value) return
  const wanted = { ...use, columns: [...chosen.values()] }
  const done = await add.mutateAsync({ file: file.value, use: wanted }).catch(() => null)
  if (!done) return
  file.value = null
  look.reset()
  if (input.value) input.value.value = ''
}
</script>

<template>
  <section class="space-y-3 border-t border-rule pt-2" aria-label="Metrics from files">
    <h3 class="font-semibold">Metrics from files</h3>
    <ul v-if="run.files.length" class="space-y-1">
      <li v-for="one in run.files" :key="one.id" class="flex flex-wrap items-baseline gap-x-3">
        <span class="break-all">{{ one.name }}</span>
        <span class="label break-words">
          {{ one.component }}: {{ one.metrics.join(', ')
          }}<template v-if="one.offset_s"
            >; clock {{ seconds(Math.abs(one.offset_s)) }}
            {{ one.offset_s > 0 ? 'ahead' : 'behind' }}, corrected</template
          >
        </span>
        <button class="label hover:text-ink" @click="remove.mutate(one.id)">Take out</button>
      </li>
    </ul>
    <p class="max-w-prose text-[13.5px]">
      Metrics a machine wrote down by itself: CSV with a header, or Parquet, with a column of times.
    </p>
    <input
      ref="input"
      type="file"
      accept=".csv,.tsv,.txt,.parquet"
      aria-label="File with metrics"
      class="sr-only"
      tabindex="-1"
      @change="choose"
    />
    <p class="flex flex-wrap items-center gap-3">
      <Action needs="planner" @click="input?.click()">Choose a file</Action>
      <span v-if="file" class="break-all">{{ file.name }}</span>
    </p>
    <JobProgress :progress="look.progress.value" @cancel="look.cancel()" />
    <JobProgress :progress="remove.progress.value" @cancel="remove.cancel()" />
    <Problem v-if="remove.isError.value" :error="remove.error.value" />
    <Problem v-if="look.isError.value" :error="look.error.value" />
    <div v-if="file && found" class="space-y-3" data-testid="file-use">
      <div class="grid gap-3 sm:grid-cols-4">
        <Choice v-model="use.component" label="Component" :options="components" />
        <Choice v-model="use.time_column" label="Times" :options="times" @done="ask" />
        <Field
          v-model="use.zone"
          label="Time zone, where times have none"
          placeholder="Europe/Lisbon"
          @done="ask"
        />
        <Field
          :model-value="use.offset_s"
          label="Its clock is ahead by, s"
          type="number"
          @update:model-value="use.offset_s = Number($event ?? 0)"
        />
      </div>
      <p class="max-w-prose text-[13.5px]" role="status" data-testid="alignment">
        <template v-if="clear">
          Aligned with the load: the file's clock seems
          {{ seconds(Math.abs(found.offset_s ?? 0)) }}
          {{ (found.offset_s ?? 0) >= 0 ? 'ahead' : 'behind' }} (correlation
          {{ found.match?.toFixed(2) }}). Change the figure above if you know better.
        </template>
        <template v-else>
          No column follows the load clearly enough to tell its clock; it is taken to be right.
        </template>
      </p>
      <ul class="space-y-2">
        <li v-for="column in numbers" :key="column.name" class="border-t border-rule pt-1">
          <label class="flex flex-wrap items-baseline gap-2">
            <input
              type="checkbox"
              class="accent-copper"
              :checked="chosen.has(column.name)"
              @change="toggle(column)"
            />
            <span class="break-all">{{ column.name }}</span>
            <span class="label figures break-all">{{ column.shown.join(', ') }} …</span>
          </label>
          <div v-if="chosen.get(column.name)" class="mt-1 grid gap-3 pl-6 sm:grid-cols-4">
            <Field v-model="chosen.get(column.name)!.metric" label="Metric" mono />
            <Choice
              v-model="chosen.get(column.name)!.kind as string"
              label="It is"
              :options="kinds"
            />
            <Choice
              label="Resource"
              :model-value="chosen.get(column.name)!.resource ?? ''"
              :options="resources"
              @update:model-value="setResource(column.name, $event)"
            />
            <Field
              v-if="chosen.get(column.name)!.resource"
              :model-value="chosen.get(column.name)!.capacity ?? undefined"
              label="Full is"
              type="number"
              @update:model-value="chosen.get(column.name)!.capacity = Number($event)"
            />
          </div>
        </li>
      </ul>
      <JobProgress :progress="add.progress.value" @cancel="add.cancel()" />
      <Action
        needs="planner"
        kind="primary"
        :disabled="!chosen.size"
        :busy="add.isPending.value"
        @click="keep"
      >
        Add to the run and analyse anew
      </Action>
      <Problem v-if="add.isError.value" :error="add.error.value" />
    </div>
  </section>
</template>
