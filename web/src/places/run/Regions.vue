<script setup lang="ts">
import { connect, disconnect } from 'echarts/core'
import { computed, onBeforeUnmount, onMounted, ref, watch } from 'vue'
import RunPlate, { type Highlight } from '@/plates/RunPlate.vue'
import type { Stretch } from '@/plates/dragging'
import {
  LATELY_S,
  commonPlate,
  problemOf,
  readThresholds,
  regionPlates,
  regionStands,
  type Thresholds,
} from '@/plates/regions'
import type { PlateInput } from '@/plates/view'
import { clock } from '@/ui/format'
import RegionMap from './RegionMap.vue'

/** The plate of each region beside the others, and a map of how they stand. */
const props = defineProps<{
  input: PlateInput
  highlight: Highlight | null
  experiment: number
  system: string
}>()
defineEmits<{ window: [Stretch | null]; point: [number | null] }>()
const GROUP = 'regions'
onMounted(() => connect(GROUP))
onBeforeUnmount(() => disconnect(GROUP))

const plates = computed(() => regionPlates(props.input))
const common = computed(() => commonPlate(props.input))
const pointed = ref<number | null>(null)
const moment = computed(() => (props.input.axis === 'clock' ? pointed.value : null))

const key = computed(() => `thresholds of experiment ${props.experiment}`)
const thresholds = ref<Thresholds>(readThresholds(null, []))
/** As they stand in the fields: ms and %. */
const written = ref({ slow: [0, 0], failing: [0, 0] })
watch(
  key,
  (name) => {
    thresholds.value = readThresholds(localStorage.getItem(name), props.input.goals)
    written.value = {
      slow: thresholds.value.slow.map((s) => Number((s * 1000).toPrecision(4))),
      failing: thresholds.value.failing.map((share) => Number((share * 100).toPrecision(4))),
    }
  },
  { immediate: true },
)
const asked = computed<Thresholds>(() => ({
  slow: written.value.slow.map((ms) => Number(ms) / 1000) as [number, number],
  failing: written.value.failing.map((part) => Number(part) / 100) as [number, number],
}))
const problem = computed(() => problemOf(asked.value))
function keep() {
  if (problem.value) return
  thresholds.value = asked.value
  localStorage.setItem(key.value, JSON.stringify(asked.value))
}
const stands = computed(() => regionStands(plates.value, moment.value, thresholds.value))
const FIELDS = [
  { what: 'slow', text: 'p95', unit: 'ms', most: 600_000 },
  { what: 'failing', text: 'failing', unit: '%', most: 100 },
] as const
</script>

<template>
  <div data-testid="regions">
    <div class="grid gap-x-4 gap-y-2 sm:grid-cols-2 2xl:grid-cols-3">
      <section v-for="plate in plates" :key="plate.id" :aria-label="`Region ${plate.name}`">
        <h2 class="-mb-3 truncate text-[15.5px]" :title="plate.name">{{ plate.name }}</h2>
        <RunPlate
          :input="plate.input"
          :highlight="null"
          :group="GROUP"
          @window="$emit('window', $event)"
          @point="((pointed = $event), $emit('point', $event))"
        />
      </section>
    </div>
    <p class="label">
      Response times are of all steps; scales are the same in all regions. The load is drawn as far
      as it was ordered.
    </p>

    <section class="mt-4 border-t border-rule pt-3" aria-label="Map of the regions">
      <h2 class="text-[15.5px]">Map</h2>
      <p class="label">
        <template v-if="moment !== null">Around {{ clock(moment) }}</template>
        <template v-else>By the last {{ LATELY_S }} s with load</template>; p95 is that of a
        middling second. Where regions lie is not known: they stand in their order.
      </p>
      <RegionMap :stands="stands" :system="system" />
      <form class="mt-2 flex flex-wrap items-end gap-x-6 gap-y-2" @submit.prevent="keep">
        <fieldset v-for="field in FIELDS" :key="field.what" class="flex items-center gap-2">
          <legend class="sr-only">Thresholds for {{ field.text }}</legend>
          <template v-for="(word, i) in ['near', 'beyond']" :key="word">
            <label class="flex items-center gap-1">
              <span class="label">{{ i ? word : `${field.text} ${word}` }} from</span>
              <input
                v-model="written[field.what][i]"
                type="number"
                step="any"
                min="0"
                :max="field.most"
                class="field !w-24"
                :aria-label="`${field.text} ${word} from, ${field.unit}`"
                @change="keep"
              />
              <span class="label">{{ field.unit }}</span>
            </label>
          </template>
        </fieldset>
        <p v-if="problem" class="w-full text-brick" role="alert">
          {{ problem }} Until then the last ones hold.
        </p>
      </form>
    </section>

    <section class="mt-4 border-t border-rule pt-3" aria-label="What regions have in common">
      <h2 class="text-[15.5px]">What all regions share</h2>
      <RunPlate
        :input="common"
        :highlight="highlight"
        @window="$emit('window', $event)"
        @point="((pointed = $event), $emit('point', $event))"
      />
    </section>
  </div>
</template>
