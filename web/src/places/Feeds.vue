<script setup lang="ts">
import { ref } from 'vue'
import { useRouter } from 'vue-router'
import { useCreateFeed, useFeeds } from '@/api/feeds'
import Action from '@/ui/Action.vue'
import DraftListFoot from '@/ui/DraftListFoot.vue'
import DraftListHead from '@/ui/DraftListHead.vue'
import Loading from '@/ui/Loading.vue'
import Problem from '@/ui/Problem.vue'
import { counted, when } from '@/ui/format'
import JourneyTabs from './JourneyTabs.vue'

const router = useRouter()
const archived = ref(false)
const feeds = useFeeds(archived)
const create = useCreateFeed()
const sources = { none: 'no rows yet', written: 'written', made: 'made', file: 'uploaded' }

async function begin(make: boolean) {
  const made = await create.mutateAsync(make).catch(() => null)
  if (made) await router.push(`/journeys/feeds/${made.id}`)
}
</script>

<template>
  <JourneyTabs />
  <DraftListHead
    title="Feeds"
    kind="feed"
    without-import
    :busy="create.isPending.value"
    @create="begin(false)"
  >
    <Action needs="planner" @click="router.push('/journeys/feeds/upload')">Upload a file</Action>
    <Action needs="planner" :busy="create.isPending.value" @click="begin(true)">Make rows</Action>
  </DraftListHead>
  <Problem v-if="create.isError.value" class="mb-4" :error="create.error.value" />
  <Loading v-if="feeds.isPending.value" what="the feeds" />
  <Problem v-else-if="feeds.isError.value" :error="feeds.error.value" />
  <p v-else-if="!feeds.data.value?.length" class="max-w-prose py-8">
    <template v-if="archived">No feed is archived.</template>
    <template v-else>
      A feed gives every user other data: rows of a CSV file, or rows made here. Without one all
      users send the same, and the server's caches flatter the result. Upload a file, or make rows.
    </template>
  </p>
  <ul v-else class="divide-y divide-rule border-y border-rule">
    <li
      v-for="f in feeds.data.value"
      :key="f.id"
      class="grid gap-x-6 gap-y-1 py-4 md:grid-cols-[2fr_3fr]"
    >
      <div class="min-w-0">
        <RouterLink :to="`/journeys/feeds/${f.id}`" class="text-[17px] font-semibold break-words">{{
          f.name
        }}</RouterLink>
        <p class="label">{{ sources[f.source] }} · changed {{ when(f.changed_at) }}</p>
      </div>
      <div v-if="f.rows" class="min-w-0 text-[13.5px]">
        <p>{{ counted(f.rows, 'row') }}</p>
        <p class="figures break-words">{{ f.columns.join(', ') }}</p>
      </div>
    </li>
  </ul>
  <DraftListFoot v-model:archived="archived" kind="feed" />
</template>
