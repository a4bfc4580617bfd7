<script setup lang="ts">
import { computed, ref, watch } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import {
  useFeed,
  useLookAtFeedFile,
  useUploadFeedFile,
  type FeedFileReading,
  type FeedFileUse,
} from '@/api/feeds'
import Action from '@/ui/Action.vue'
import Choice from '@/ui/Choice.vue'
import Field from '@/ui/Field.vue'
import JobProgress from '@/ui/JobProgress.vue'
import Problem from '@/ui/Problem.vue'
import { counted } from '@/ui/format'
import RowsTable from './feed/RowsTable.vue'

/** A CSV file as a feed: how it was read, what it holds, what its columns are called. */
const route = useRoute()
const router = useRouter()
const replaced = computed(() => {
  const id = Number(route.query.replaces)
  return Number.isInteger(id) && id > 0 ? id : null
})
const feed = useFeed(replaced)
const look = useLookAtFeedFile()
const upload = useUploadFeedFile()
const input = ref<HTMLInputElement | null>(null)
const file = ref<File | null>(null)
const name = ref<string | undefined>('')
const columns = ref<string[]>([])
const ragged = ref<FeedFileUse['ragged']>('refuse')
const over = ref(false)

const found = computed(() => look.data.value?.found)
const delimiters = [
  { value: ',', text: 'comma' },
  { value: ';', text: 'semicolon' },
  { value: '\t', text: 'tab' },
  { value: '|', text: 'vertical bar' },
]
const faults = computed(() =>
  columns.value.map((column, i) => {
    if (!/^[A-Za-z_][A-Za-z0-9_]*$/.test(column))
      return { path: '', message: 'letters, digits and _ only.', mend: 'Begin with a letter.' }
    if (columns.value.indexOf(column) !== i)
      return { path: '', message: 'used twice.', mend: 'Choose another name.' }
    return undefined
  }),
)
const lines = computed(() => {
  const { ragged: some = [], ragged_total: all = 0 } = found.value ?? {}
  return `line ${some.join(', ')}${all > some.length ? ' …' : ''}`
})
const ready = computed(
  () =>
    name.value &&
    !faults.value.some(Boolean) &&
    !look.isPending.value &&
    (!found.value?.ragged_total || ragged.value !== 'refuse'),
)
watch(found, (now) => {
  if (now) columns.value = [...now.columns]
  ragged.value = 'refuse'
})
watch(
  () => feed.data.value?.name,
  (known) => {
    if (known) name.value = known
  },
  { immediate: true },
)

async function take(chosen: File | null | undefined) {
  if (!chosen) return
  file.value = chosen
  upload.reset()
  if (replaced.value === null) name.value = chosen.name.replace(/\.[^.]*$/, '').slice(0, 80)
  await read({})
}
async function read(reading: FeedFileReading) {
  if (file.value) await look.mutateAsync({ file: file.value, reading }).catch(() => null)
}
function again(change: FeedFileReading) {
  if (!found.value) return
  const { encoding, delimiter, header } = found.value
  void read({ encoding, delimiter, header, ...change })
}
async function keep() {
  if (!file.value || !found.value) return
  const { encoding, delimiter, header } = found.value
  const use = {
    name: name.value ?? '',
    encoding,
    delimiter,
    header,
    columns: columns.value,
    ragged: ragged.value,
  }
  const kept = await upload
    .mutateAsync({ file: file.value, use, replaced: replaced.value })
    .catch(() => null)
  if (kept) await router.push(`/journeys/feeds/${kept.id}`)
}
</script>

<template>
  <div class="max-w-5xl space-y-5">
    <p class="label"><RouterLink to="/journeys/feeds">Feeds</RouterLink></p>
    <h1 class="break-words">
      {{ replaced === null ? 'A feed from a file' : `Other rows for ${name}` }}
    </h1>
    <input
      ref="input"
      type="file"
      accept=".csv,.tsv,.txt,text/csv,text/plain"
      class="sr-only"
      tabindex="-1"
      aria-label="File with rows"
      @change="take(input?.files?.[0])"
    />
    <div
      class="flex flex-wrap items-center gap-3 rounded border border-dashed border-rule p-4"
      :class="{ 'border-copper bg-card': over }"
      @dragover.prevent="over = true"
      @dragleave="over = false"
      @drop.prevent="((over = false), take($event.dataTransfer?.files[0]))"
    >
      <Action :kind="found ? 'plain' : 'primary'" @click="input?.click()">Choose a file</Action>
      <span v-if="file" class="break-all">{{ file.name }}</span>
      <span v-else class="text-ink-2">
        …or drop it here. CSV, up to 50 MB and a million rows. Encoding, delimiter and header are
        recognised; you can correct them.
      </span>
    </div>
    <JobProgress :progress="look.progress.value" @cancel="look.cancel()" />
    <Problem v-if="look.isError.value" :error="look.error.value">
      <Action v-if="file" class="mt-2" @click="read({})">Read it again as recognised</Action>
    </Problem>
    <template v-else-if="found">
      <section class="grid gap-3 sm:grid-cols-3" aria-label="How it is read">
        <Choice
          label="Encoding"
          :options="found.encodings.map((value) => ({ value, text: value }))"
          :model-value="found.encoding"
          @update:model-value="again({ encoding: $event })"
        />
        <Choice
          label="Values are separated by"
          :options="delimiters"
          :model-value="found.delimiter"
          @update:model-value="again({ delimiter: $event })"
        />
        <Choice
          label="First row"
          :options="[
            { value: 'yes', text: 'names the columns' },
            { value: 'no', text: 'is data' },
          ]"
          :model-value="found.header ? 'yes' : 'no'"
          @update:model-value="again({ header: $event === 'yes' })"
        />
      </section>
      <section
        v-if="found.ragged_total"
        class="space-y-2 border-l-2 border-ochre pl-3"
        aria-label="Ragged rows"
      >
        <p class="break-words">
          <span class="text-ochre">◐</span> {{ counted(found.ragged_total, 'row') }} with more or
          fewer than {{ counted(found.titles.length, 'value') }}: {{ lines }}. Nothing is taken
          until you choose.
        </p>
        <Choice
          label="Such rows"
          :options="[
            { value: 'refuse', text: 'choose what becomes of them' },
            { value: 'fill up', text: 'fill up with nothing, cut what is too much' },
            { value: 'leave out', text: 'leave out' },
          ]"
          :model-value="ragged"
          @update:model-value="ragged = ($event ?? 'refuse') as FeedFileUse['ragged']"
        />
      </section>
      <section class="space-y-2" aria-label="Columns">
        <h2>{{ counted(found.titles.length, 'column') }}, used in requests by these names</h2>
        <div class="grid gap-3 sm:grid-cols-3 lg:grid-cols-4">
          <Field
            v-for="(title, i) in found.titles"
            :key="i"
            v-model="columns[i]"
            :label="title"
            mono
            :fault="faults[i]"
          />
        </div>
      </section>
      <section class="space-y-2" aria-label="Preview">
        <h2>
          {{ counted(found.total, 'row') }}
          <span v-if="found.total > found.rows.length" class="label font-normal">
            beginning with these {{ found.rows.length }}
          </span>
        </h2>
        <RowsTable :columns="columns" :rows="found.rows" :start="0" />
      </section>
      <section class="grid gap-3 sm:grid-cols-[1fr_auto] sm:items-end" aria-label="Feed">
        <Field v-model="name" label="Name of the feed" :disabled="replaced !== null" />
        <Action
          needs="planner"
          kind="primary"
          :busy="upload.isPending.value"
          :disabled="!ready"
          @click="keep"
        >
          {{ replaced === null ? 'Create the feed' : 'Take these rows' }}
        </Action>
      </section>
      <JobProgress :progress="upload.progress.value" @cancel="upload.cancel()" />
      <Problem v-if="upload.isError.value" :error="upload.error.value" />
    </template>
  </div>
</template>
