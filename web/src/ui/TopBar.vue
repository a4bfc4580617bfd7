<script setup lang="ts">
import { computed, ref, watch } from 'vue'
import { useRoute } from 'vue-router'
import { useNow } from '@/api/now'
import AccountMenu from './AccountMenu.vue'
import EndedNotice from './EndedNotice.vue'
import HaltControl from './HaltControl.vue'
import HaltNotice from './HaltNotice.vue'
import Mark from './Mark.vue'
import RunState from './RunState.vue'
import { counted } from './format'
import { dark, switchTheme } from './theme'

defineEmits<{ jump: []; help: [] }>()
const places = [
  { to: '/systems', name: 'Systems' },
  { to: '/journeys', name: 'Journeys' },
  { to: '/experiments', name: 'Experiments' },
  { to: '/runs', name: 'Runs' },
  { to: '/capacity', name: 'Capacity' },
]
const route = useRoute()
const now = useNow()
const current = computed(() => now.data.value?.runs[0])
const others = computed(() => (now.data.value?.runs.length ?? 0) - 1)
/** The run that has just ended, until it is looked at or put away. */
const ended = ref<number | null>(null)
watch(
  () => now.data.value?.runs.map((run) => run.id),
  (ids, before) => {
    const gone = before?.find((id) => !ids?.includes(id))
    // Whoever looks at the run itself has seen its end.
    if (gone !== undefined && ids && route.path !== `/runs/${gone}`) ended.value = gone
  },
)
watch(
  () => route.path,
  (path) => {
    if (path.startsWith(`/runs/${ended.value}`)) ended.value = null
  },
)
</script>

<template>
  <header class="border-b border-rule bg-card">
    <nav
      class="mx-auto flex max-w-[1440px] flex-wrap items-center gap-x-5 gap-y-1 px-5 py-2"
      aria-label="Places"
    >
      <RouterLink
        to="/experiments"
        class="flex items-center gap-2 text-ink hover:no-underline"
        aria-label="Stone Kettle, experiments"
      >
        <Mark />
        <span class="hidden font-semibold lg:inline">Stone Kettle</span>
      </RouterLink>
      <ul class="flex gap-4">
        <li v-for="place in places" :key="place.to">
          <RouterLink
            :to="place.to"
            class="border-b-2 border-transparent py-1 text-ink-2 hover:text-ink hover:no-underline"
            :class="{ '!border-copper !text-ink': route.path.startsWith(place.to) }"
          >
            {{ place.name }}
          </RouterLink>
        </li>
      </ul>
      <div class="ml-auto flex min-w-0 flex-wrap items-center gap-x-3 gap-y-1">
        <RouterLink
          v-if="current"
          :to="others > 0 ? '/runs' : `/runs/${current.id}`"
          class="flex max-w-72 items-center gap-1 rounded-full border border-rule px-3 py-0.5 text-ink"
          data-testid="run-chip"
        >
          <span class="truncate">{{ current.experiment }}</span>
          <span v-if="others > 0" class="label whitespace-nowrap">and {{ others }} more</span>
          <RunState :state="current.state" />
          <span v-if="current.notices" class="label whitespace-nowrap" data-testid="noticed">
            {{ counted(current.notices, 'notice') }}
          </span>
        </RouterLink>
        <HaltControl />
        <button type="button" class="label hover:text-ink" @click="$emit('jump')">
          Jump to <kbd>Ctrl K</kbd>
        </button>
        <button
          type="button"
          class="label hover:text-ink"
          aria-label="Keyboard shortcuts"
          @click="$emit('help')"
        >
          <kbd>?</kbd>
        </button>
        <button type="button" class="label hover:text-ink" @click="switchTheme">
          {{ dark ? 'Light' : 'Dark' }}
        </button>
        <AccountMenu />
      </div>
    </nav>
  </header>
  <HaltNotice />
  <EndedNotice v-if="ended !== null" :id="ended" :key="ended" @away="ended = null" />
</template>
