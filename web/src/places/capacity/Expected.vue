<script setup lang="ts">
import { computed } from 'vue'
import type { Fault } from '@/api/problem'
import Action from '@/ui/Action.vue'
import Choice from '@/ui/Choice.vue'
import Field from '@/ui/Field.vue'
import { later, type CapacityDoc } from './document'

/** Which loads are expected, and when; what they grow to, and how much more is to be borne. */
const doc = defineModel<CapacityDoc>({ required: true })
defineProps<{ faultAt: (path: string) => Fault | undefined; disabled: boolean }>()
const emit = defineEmits<{ done: [] }>()
const unit = computed(() => (doc.value.counted_in === 'steps' ? 'steps/s' : 'users'))
const last = computed(() =>
  doc.value.peaks
    .map((one) => one.on)
    .sort()
    .at(-1),
)

function add() {
  const load = doc.value.peaks.at(-1)?.load ?? 100
  doc.value.peaks = [...doc.value.peaks, { on: later(last.value, 30), load }]
  emit('done')
}
function remove(index: number) {
  doc.value.peaks = doc.value.peaks.filter((_, i) => i !== index)
  emit('done')
}
function grow() {
  doc.value.growth = { by: '20 %', until: later(last.value, 365) }
  emit('done')
}
function still() {
  doc.value.growth = undefined
  emit('done')
}
</script>

<template>
  <section aria-label="What is expected" class="space-y-3">
    <h2>What is expected</h2>
    <fieldset :disabled="disabled" class="min-w-0 space-y-2">
      <Choice
        class="max-w-64"
        label="Loads are counted in"
        :model-value="doc.counted_in ?? 'users'"
        :options="[
          { value: 'users', text: 'users at a time' },
          { value: 'steps', text: 'steps per second' },
        ]"
        @update:model-value="doc.counted_in = $event as CapacityDoc['counted_in']"
        @done="emit('done')"
      />
      <div
        v-for="(peak, i) in doc.peaks"
        :key="i"
        class="grid grid-cols-[9.5rem_7rem_minmax(0,1fr)_auto] items-start gap-x-3 max-sm:grid-cols-[9.5rem_1fr]"
        role="group"
        :aria-label="`Peak ${i + 1}`"
      >
        <div class="min-w-0">
          <label :for="`peak-${i}`" class="label block" :class="{ 'sr-only': i > 0 }">Day</label>
          <input
            :id="`peak-${i}`"
            type="date"
            class="field figures"
            :class="{ '!border-brick': faultAt(`peaks[${i}].on`) }"
            :value="peak.on"
            :aria-invalid="!!faultAt(`peaks[${i}].on`)"
            @change="((peak.on = ($event.target as HTMLInputElement).value), emit('done'))"
          />
          <p v-if="faultAt(`peaks[${i}].on`)" class="text-[13px] text-brick" role="alert">
            ✕ {{ faultAt(`peaks[${i}].on`)?.message }} {{ faultAt(`peaks[${i}].on`)?.mend }}
          </p>
        </div>
        <Field
          :model-value="peak.load"
          type="number"
          :label="`Peak, ${unit}`"
          :label-hidden="i > 0"
          :fault="faultAt(`peaks[${i}].load`)"
          @update:model-value="peak.load = Number($event)"
          @done="emit('done')"
        />
        <Field
          v-model="peak.note"
          label="What happens then"
          :label-hidden="i > 0"
          :fault="faultAt(`peaks[${i}].note`)"
          @done="emit('done')"
        />
        <Action
          needs="planner"
          :class="{ 'sm:mt-[17px]': i === 0 }"
          :disabled="disabled || doc.peaks.length < 2"
          :aria-label="`Remove peak ${i + 1}`"
          @click="remove(i)"
          >Remove</Action
        >
      </div>
      <p v-if="faultAt('peaks')" class="text-[13px] text-brick" role="alert">
        ✕ {{ faultAt('peaks')?.message }} {{ faultAt('peaks')?.mend }}
      </p>
      <Action needs="planner" :disabled="disabled" @click="add">Add a peak</Action>
      <div class="grid gap-x-3 gap-y-2 sm:grid-cols-[9.5rem_7rem_minmax(0,1fr)]">
        <template v-if="doc.growth">
          <div>
            <label for="grows-until" class="label block">Grows until</label>
            <input
              id="grows-until"
              type="date"
              class="field figures"
              :class="{ '!border-brick': faultAt('growth.until') }"
              :value="doc.growth.until"
              :aria-invalid="!!faultAt('growth.until')"
              @change="
                ((doc.growth.until = ($event.target as HTMLInputElement).value), emit('done'))
              "
            />
            <p v-if="faultAt('growth.until')" class="text-[13px] text-brick" role="alert">
              ✕ {{ faultAt('growth.until')?.message }} {{ faultAt('growth.until')?.mend }}
            </p>
          </div>
          <Field
            v-model="doc.growth.by"
            label="By, a year"
            placeholder="20 %"
            :fault="faultAt('growth.by')"
            @done="emit('done')"
          />
          <div class="self-center pt-4">
            <button type="button" class="label hover:text-ink" @click="still">
              It does not grow after the last peak
            </button>
          </div>
        </template>
        <div v-else class="self-center sm:col-span-2">
          <button type="button" class="label hover:text-ink" @click="grow">
            Let it grow after the last peak
          </button>
        </div>
      </div>
      <div class="grid gap-3 sm:grid-cols-3">
        <Field
          v-model="doc.headroom"
          label="Headroom above that"
          placeholder="0 %"
          :fault="faultAt('headroom')"
          @done="emit('done')"
        />
        <Field
          v-model="doc.uncertain"
          label="The peak may be off by"
          placeholder="0 %"
          hint="A standard deviation"
          :fault="faultAt('uncertain')"
          @done="emit('done')"
        />
        <Field
          v-model="doc.lost"
          type="number"
          label="Instances lost to bear"
          placeholder="1"
          hint="Of any one component"
          :fault="faultAt('lost')"
          @done="emit('done')"
        />
      </div>
    </fieldset>
  </section>
</template>
