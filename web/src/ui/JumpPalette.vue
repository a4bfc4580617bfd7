<script setup lang="ts">
import {
  Combobox,
  ComboboxInput,
  ComboboxOption,
  ComboboxOptions,
  Dialog,
  DialogPanel,
} from '@headlessui/vue'
import { computed, ref, watch } from 'vue'
import { useRouter } from 'vue-router'
import { useRole } from './role'
import { useJourneys } from '@/api/journeys'
import { useExperiments } from '@/api/experiments'
import { useRuns } from '@/api/queries'
import { useSystems } from '@/api/systems'

interface Place {
  name: string
  hint: string
  to: string
}

const open = defineModel<boolean>({ required: true })
const router = useRouter()
const { may } = useRole()
const experiments = useExperiments(false, open)
const systems = useSystems(false, open)
const journeys = useJourneys(false, open)
const runs = useRuns({}, open)
const query = ref('')
watch(open, () => (query.value = ''))

const all = computed<Place[]>(() => [
  { name: 'Systems', hint: 'place', to: '/systems' },
  { name: 'Journeys', hint: 'place', to: '/journeys' },
  { name: 'Experiments', hint: 'place', to: '/experiments' },
  { name: 'Runs', hint: 'place', to: '/runs' },
  { name: 'Capacity', hint: 'place', to: '/capacity' },
  { name: 'Who did what', hint: 'place', to: '/deeds' },
  { name: 'Your page', hint: 'place', to: '/you' },
  ...(may('administrator') ? [{ name: 'People', hint: 'place', to: '/people' }] : []),
  { name: 'New experiment', hint: 'action', to: '/experiments/new' },
  ...(systems.data.value ?? []).map((s) => ({
    name: s.name,
    hint: 'system',
    to: `/systems/${s.id}`,
  })),
  ...(journeys.data.value ?? []).map((j) => ({
    name: j.name,
    hint: 'journey',
    to: `/journeys/${j.id}`,
  })),
  ...(experiments.data.value ?? []).map((e) => ({
    name: e.name,
    hint: 'experiment',
    to: `/experiments/${e.id}`,
  })),
  ...(runs.data.value?.runs ?? []).map((r) => ({
    name: `Run ${r.id}, ${r.experiment}`,
    hint: r.state,
    to: `/runs/${r.id}`,
  })),
])
const found = computed(() => {
  const words = query.value.toLowerCase().split(/\s+/).filter(Boolean)
  return all.value.filter((p) => words.every((w) => p.name.toLowerCase().includes(w))).slice(0, 12)
})
function go(place: Place | null) {
  if (!place) return
  open.value = false
  void router.push(place.to)
}
</script>

<template>
  <Dialog :open="open" class="relative z-20" @close="open = false">
    <div class="fixed inset-0 bg-ink/30" aria-hidden="true" />
    <div class="fixed inset-0 flex items-start justify-center p-4 pt-24">
      <DialogPanel class="w-full max-w-xl rounded border border-rule bg-card shadow-lg">
        <Combobox :model-value="null" @update:model-value="go">
          <ComboboxInput
            class="w-full border-b border-rule bg-transparent px-4 py-3"
            placeholder="Jump to a place, a system, a journey, an experiment, a run …"
            aria-label="Jump to"
            @change="query = $event.target.value"
          />
          <ComboboxOptions static class="max-h-96 overflow-auto py-1">
            <ComboboxOption
              v-for="place in found"
              :key="place.to"
              v-slot="{ active }"
              :value="place"
            >
              <div
                class="flex justify-between px-4 py-1.5"
                :class="active ? 'bg-paper text-copper' : ''"
              >
                <span class="truncate">{{ place.name }}</span>
                <span class="label">{{ place.hint }}</span>
              </div>
            </ComboboxOption>
            <p v-if="!found.length" class="px-4 py-3 text-ink-2">Nothing has that name.</p>
          </ComboboxOptions>
        </Combobox>
      </DialogPanel>
    </div>
  </Dialog>
</template>
