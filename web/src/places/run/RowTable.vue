<script setup lang="ts">
import { computed, ref } from 'vue'
import { shownRows } from '@/plates/runPlate'
import { viewOf, type PlateInput } from '@/plates/view'
import Choice from '@/ui/Choice.vue'
import { clock, counted, loadFigure } from '@/ui/format'

/** What a row of the plate draws, in figures: place by place along the axis in use, the latest first. */
const props = defineProps<{ input: PlateInput }>()
const MOST = 60
const open = ref(false)
const chosen = ref('')
const most = ref(MOST)
const view = computed(() => viewOf(props.input))
const rows = computed(() => shownRows(view.value))
const row = computed(() => rows.value.find((one) => one.id === chosen.value) ?? rows.value[0])
const places = computed(() => view.value.places.toReversed())
const lines = computed(() =>
  open.value && row.value
    ? places.value.slice(0, most.value).map((place) => ({
        at: props.input.axis === 'clock' ? clock(place.from) : loadFigure(place.x),
        figures: row.value?.figures(place) ?? [],
      }))
    : [],
)
const width = computed(() => Math.max(1, ...lines.value.map((line) => line.figures.length)))
</script>

<template>
  <details
    class="mt-2"
    data-testid="row-table"
    @toggle="open = ($event.target as HTMLDetailsElement).open"
  >
    <summary class="label cursor-pointer">Table of a row</summary>
    <template v-if="open && row">
      <Choice
        v-model="chosen"
        class="mt-2 w-56"
        label="Row"
        label-hidden
        :options="rows.map(({ id, name }, i) => ({ value: i ? id : '', text: name }))"
      />
      <div class="mt-2 max-h-96 overflow-auto">
        <table>
          <thead>
            <tr>
              <th>{{ input.axis === 'clock' ? 'From' : input.profile.axis.name }}</th>
              <th :colspan="width">{{ row.name }}</th>
            </tr>
          </thead>
          <tbody class="figures">
            <tr v-for="line in lines" :key="line.at">
              <td>{{ line.at }}</td>
              <td v-for="i in width" :key="i" class="whitespace-nowrap">
                {{ line.figures[i - 1] }}
              </td>
            </tr>
          </tbody>
        </table>
        <p v-if="!places.length" class="label">Nothing is known of this stretch.</p>
      </div>
      <button
        v-if="places.length > most"
        type="button"
        class="mt-1 text-copper hover:underline"
        @click="most += MOST"
      >
        {{ counted(Math.min(MOST, places.length - most), 'row') }} more of {{ places.length }}
      </button>
    </template>
  </details>
</template>
