<script setup lang="ts">
import { computed, ref, watch } from 'vue'
import { useRouter } from 'vue-router'
import { useRole } from '@/ui/role'
import {
  useArchiveFeed,
  useDuplicateFeed,
  useFeed,
  useFeedRows,
  useFeedStepBack,
  useSaveFeed,
  type FeedDetail,
} from '@/api/feeds'
import Action from '@/ui/Action.vue'
import Choice from '@/ui/Choice.vue'
import CopyAndArchive from '@/ui/CopyAndArchive.vue'
import DraftFrame from '@/ui/DraftFrame.vue'
import Field from '@/ui/Field.vue'
import Loading from '@/ui/Loading.vue'
import Problem from '@/ui/Problem.vue'
import WhoDidWhat from '@/ui/WhoDidWhat.vue'
import { useDraft } from '@/ui/draft'
import { counted } from '@/ui/format'
import RecipeForm from './feed/RecipeForm.vue'
import RowsTable from './feed/RowsTable.vue'
import { columnOf, completed, shortage, type FeedDoc } from './feed/document'

const PAGE = 20
const props = defineProps<{ id: number }>()
const router = useRouter()
const feed = useFeed(props.id)
const draft = useDraft<FeedDoc, FeedDetail>(
  feed,
  useSaveFeed(props.id),
  useFeedStepBack(props.id),
  ['name'],
)
const { doc, faultAt, faultBelow } = draft
const start = ref(0)
const state = computed(() => feed.data.value?.changed_at ?? '')
const rows = useFeedRows(props.id, start, state)
const duplicate = useDuplicateFeed(props.id)
const archive = useArchiveFeed(props.id)
const archived = computed(() => feed.data.value?.archived ?? false)
const { reads } = useRole()
const experiments = computed(() =>
  (feed.data.value?.uses ?? []).map((use) => ({
    ...use,
    short: shortage(
      feed.data.value?.rows ?? 0,
      use.peak_users ?? 0,
      doc.value?.take,
      doc.value?.end,
    ),
  })),
)
watch(doc, (taken) => taken && completed(taken), { immediate: true })
watch(state, () => {
  if (start.value >= (feed.data.value?.rows ?? 0)) start.value = 0
})

async function commit() {
  if (doc.value) completed(doc.value)
  await draft.commit()
}
function from(source: Partial<FeedDoc>) {
  if (doc.value) Object.assign(doc.value, source)
  void commit()
}
async function copy() {
  const made = await duplicate.mutateAsync()
  await router.push(`/journeys/feeds/${made.id}`)
}
</script>

<template>
  <DraftFrame what="the feed" :draft="{ ...draft, commit }">
    <template #head>
      <p class="label"><RouterLink to="/journeys/feeds">Feeds</RouterLink></p>
      <h1 class="break-words">
        {{ feed.data.value?.name }} <span v-if="archived" class="label">archived</span>
      </h1>
    </template>
    <template v-if="doc && feed.data.value" #margin>
      <section class="space-y-2 border-t border-rule pt-3" aria-label="Use">
        <h2>Use</h2>
        <ul v-if="experiments.length" class="space-y-1" data-testid="uses">
          <li v-for="use in experiments" :key="`${use.kind} ${use.id}`" class="break-words">
            <RouterLink :to="`/${use.kind}s/${use.id}`">{{ use.name }}</RouterLink>
            <span v-if="use.peak_users" class="label"> up to {{ use.peak_users }} users</span>
            <p v-if="use.short" class="text-[13.5px]">
              <span class="text-ochre">◐</span>
              {{ counted(feed.data.value.rows, 'row') }} for {{ use.peak_users }} users:
              {{ use.short }}.
            </p>
          </li>
        </ul>
        <p v-else class="text-[13.5px]">
          No journey brings it along yet: choose it there, or name it in an experiment under feeds
          as <code class="figures break-all">- {feed: {{ feed.data.value.name }}}</code>
        </p>
        <p v-if="feed.data.value.columns.length" class="text-[13.5px] break-words">
          In requests:
          <code v-for="column in feed.data.value.columns" :key="column" class="figures mr-1">{{
            `\{\{${column}\}\}`
          }}</code>
        </p>
        <p v-if="feed.data.value.rows === 1" class="text-[13.5px]">
          <span class="text-ochre">◐</span> With one row all users send the same; the server's
          caches would flatter the result.
        </p>
        <div class="flex flex-wrap gap-2">
          <CopyAndArchive
            :archived="archived"
            :copying="duplicate.isPending.value"
            :archiving="archive.isPending.value"
            @copy="copy"
            @archive="archive.mutate"
          />
        </div>
        <p v-if="feed.data.value.rows">
          <a :href="`/api/feeds/${id}/rows.csv`" download>All rows as CSV</a>
        </p>
      </section>
      <WhoDidWhat :id="id" :key="feed.data.value.revision" kind="feed" />
    </template>
    <template v-if="doc && feed.data.value">
      <fieldset :disabled="archived || reads" class="min-w-0 space-y-5">
        <div class="grid gap-3 sm:grid-cols-2">
          <Field
            v-model="doc.name as string | undefined"
            label="Name"
            :fault="faultAt('name')"
            @done="commit"
          />
          <Field v-model="doc.notes" label="Notes" @done="commit" />
          <Choice
            label="Rows are taken"
            :options="[
              { value: 'in order', text: 'in order, one for each journey begun' },
              { value: 'at random', text: 'at random' },
              { value: 'one per user', text: 'one row per user' },
            ]"
            :model-value="doc.take ?? 'in order'"
            @update:model-value="doc!.take = $event"
            @done="commit"
          />
          <Choice
            label="After the last row"
            :options="[
              { value: 'start over', text: 'start over' },
              { value: 'retire', text: 'retire the user' },
            ]"
            :model-value="doc.end ?? 'start over'"
            :disabled="doc.take === 'at random'"
            @update:model-value="doc!.end = $event"
            @done="commit"
          />
        </div>
        <section class="space-y-3" aria-label="Where its rows come from">
          <div v-if="doc.file" class="flex flex-wrap items-baseline gap-3">
            <h2>From a file</h2>
            <span class="label break-all">{{ doc.file.filename }}</span>
            <Action needs="planner" @click="router.push(`/journeys/feeds/upload?replaces=${id}`)">
              Upload other rows
            </Action>
          </div>
          <template v-else-if="doc.make">
            <h2>Made here</h2>
            <div>
              <RecipeForm v-model="doc.make" :fault-below="faultBelow" @done="commit" />
            </div>
          </template>
          <template v-else-if="doc.csv !== undefined">
            <h2>Written here</h2>
            <Field
              v-model="doc.csv"
              label="Rows as CSV, column names in the first line"
              mono
              :lines="8"
              :fault="faultAt('csv')"
              @done="commit"
            />
          </template>
          <template v-else>
            <h2>Where do its rows come from?</h2>
            <div class="flex flex-wrap gap-2">
              <Action
                needs="planner"
                kind="primary"
                @click="router.push(`/journeys/feeds/upload?replaces=${id}`)"
              >
                Upload a file
              </Action>
              <Action
                @click="from({ make: { rows: 1000, columns: [columnOf('account', 'sequence')] } })"
              >
                Make them
              </Action>
              <Action needs="planner" @click="from({ csv: 'account\nA-1\nA-2\n' })"
                >Write them</Action
              >
            </div>
          </template>
        </section>
      </fieldset>
      <section v-if="feed.data.value.rows" class="space-y-2" aria-label="Preview">
        <div class="flex flex-wrap items-baseline gap-3">
          <h2>{{ counted(feed.data.value.rows, 'row') }}</h2>
          <template v-if="feed.data.value.rows > PAGE">
            <Action :disabled="start === 0" @click="start = Math.max(0, start - PAGE)">
              Earlier
            </Action>
            <Action :disabled="start + PAGE >= feed.data.value.rows" @click="start = start + PAGE">
              Later
            </Action>
          </template>
        </div>
        <Problem v-if="rows.isError.value" :error="rows.error.value" />
        <Loading v-else-if="rows.isPending.value" what="the rows" />
        <RowsTable
          v-else-if="rows.data.value"
          :columns="rows.data.value.columns"
          :rows="rows.data.value.rows"
          :start="rows.data.value.start"
        />
      </section>
    </template>
  </DraftFrame>
</template>
