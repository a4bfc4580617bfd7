<script setup lang="ts">
import { computed } from 'vue'
import { useFeeds } from '@/api/feeds'
import Choice from '@/ui/Choice.vue'

/** The feeds a journey brings along. */
const chosen = defineModel<string[]>()
const emit = defineEmits<{ done: [] }>()
const feeds = useFeeds()
const known = computed(() => new Map((feeds.data.value ?? []).map((f) => [f.name, f])))
const options = computed(() => [
  { value: '', text: feeds.data.value?.length ? 'add a feed' : 'no feed yet' },
  ...[...known.value.values()]
    .filter((f) => !chosen.value?.includes(f.name))
    .map((f) => ({ value: f.name, text: `${f.name}: ${f.columns.join(', ') || 'no rows yet'}` })),
])
function set(names: string[]) {
  chosen.value = names
  emit('done')
}
</script>

<template>
  <div class="min-w-0 sm:col-span-2">
    <Choice
      label="Feeds: rows that make users differ"
      :options="options"
      model-value=""
      @update:model-value="$event && set([...(chosen ?? []), $event])"
    />
    <ul v-if="chosen?.length" class="mt-1 space-y-1" aria-label="Feeds of this journey">
      <li v-for="name in chosen" :key="name" class="flex flex-wrap items-baseline gap-x-3">
        <RouterLink v-if="known.get(name)" :to="`/journeys/feeds/${known.get(name)?.id}`">{{
          name
        }}</RouterLink>
        <span v-else-if="feeds.data.value" class="text-brick">✕ There is no feed {{ name }}</span>
        <code class="figures text-[12.5px] break-all">{{
          known
            .get(name)
            ?.columns.map((c) => `\{\{${c}\}\}`)
            .join(' ')
        }}</code>
        <button
          type="button"
          class="label hover:text-ink"
          :aria-label="`Leave out ${name}`"
          @click="set((chosen ?? []).filter((n) => n !== name))"
        >
          Leave out
        </button>
      </li>
    </ul>
    <p class="text-[13px] text-ink-2">
      <RouterLink to="/journeys/feeds">All feeds</RouterLink>: upload rows, or make some.
    </p>
  </div>
</template>
