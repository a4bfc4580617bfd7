<script setup lang="ts">
import { computed } from 'vue'
import type { PlanOutline } from '@/api/experiments'
import Action from '@/ui/Action.vue'
import Field from '@/ui/Field.vue'
import { given } from '@/ui/format'
import CandidateForm from './CandidateForm.vue'
import { usePlan } from './plan'
import { typedShare } from './quantities'

/** Variants of the system that take turns under the same load, with a second factor if need be. */
const props = defineProps<{ outline: PlanOutline }>()
const SWITCH_S = 25
const plan = usePlan()
const told = computed(() => plan.data.value?.candidates)
const each = computed(() => told.value?.each ?? [])
const values = computed(() => told.value?.factor?.values ?? [])
const blocks = computed(() => told.value?.blocks ?? 8)
const turns = computed(() => blocks.value * each.value.length * Math.max(1, values.value.length))
const takes = computed(() => {
  const each = props.outline.profile.duration_s + SWITCH_S
  return given(Math.max(60, Math.round((turns.value * each) / 60) * 60))
})

function begin() {
  plan.set(['candidates'], {
    blocks: 8,
    each: [
      { name: 'as it is', setting: 'as it is' },
      { name: 'changed', setting: 'with the change' },
    ],
  })
  plan.commit()
}
function set(path: (string | number)[], value: unknown) {
  plan.set(['candidates', ...path], value)
  plan.commit()
}
function add(list: (string | number)[], count: number, name: string) {
  plan.insert(['candidates', ...list], count, { name: `${name} ${count + 1}` })
  plan.commit()
}
function remove(list: (string | number)[], index: number) {
  plan.remove(['candidates', ...list], index)
  plan.commit()
}
</script>

<template>
  <section aria-label="Candidates" class="space-y-3">
    <h2>Candidates</h2>
    <template v-if="!told">
      <p class="max-w-prose text-ink-2">
        One system, as it is. Two releases, settings or instance types can be measured in turns
        under this load: block by block, in an order drawn at random, so that what drifts meanwhile
        is the same for both.
      </p>
      <Action needs="planner" @click="begin">Compare candidates</Action>
    </template>
    <template v-else>
      <p class="text-ink-2">
        {{ turns }} turns of {{ given(outline.profile.duration_s) }} each, about {{ takes }} in all.
        Each candidate is compared with the first one.
      </p>
      <p v-if="plan.faultAt('candidates')" class="text-[13px] text-brick" role="alert">
        ✕ {{ plan.faultAt('candidates')?.message }} {{ plan.faultAt('candidates')?.mend }}
      </p>
      <p v-if="plan.faultAt('candidates.each')" class="text-[13px] text-brick" role="alert">
        ✕ {{ plan.faultAt('candidates.each')?.message }} {{ plan.faultAt('candidates.each')?.mend }}
      </p>
      <div class="flex flex-wrap gap-3">
        <Field
          class="w-24"
          label="Blocks"
          type="number"
          :fault="plan.faultAt('candidates.blocks')"
          :model-value="blocks"
          @update:model-value="set(['blocks'], $event)"
        />
        <Field
          class="w-48"
          label="No difference if under"
          mono
          :fault="plan.faultAt('candidates.matters')"
          :model-value="told.matters ?? '5 %'"
          @update:model-value="set(['matters'], typedShare(String($event ?? '')))"
        />
      </div>
      <CandidateForm
        v-for="(one, i) in each"
        :key="i"
        :path="['candidates', 'each', i]"
        :of="one"
        :outline="outline"
        :removable="each.length > 2"
        @remove="remove(['each'], i)"
      />
      <div class="flex flex-wrap gap-2">
        <Action
          needs="planner"
          :disabled="each.length >= 6"
          @click="add(['each'], each.length, 'candidate')"
          >Add a candidate</Action
        >
        <Action
          v-if="!values.length"
          needs="planner"
          @click="
            set(['factor'], { name: 'Data set', values: [{ name: 'small' }, { name: 'large' }] })
          "
          >Vary something else too</Action
        >
        <Action needs="planner" @click="set([], undefined)">Remove all candidates</Action>
      </div>
      <div v-if="told.factor" class="space-y-3">
        <div class="flex flex-wrap items-end gap-3">
          <Field
            class="w-48"
            label="What else is varied"
            :fault="plan.faultAt('candidates.factor.name')"
            :model-value="told.factor.name"
            @update:model-value="set(['factor', 'name'], $event || undefined)"
          />
          <Action
            needs="planner"
            :disabled="values.length >= 6"
            @click="add(['factor', 'values'], values.length, 'value')"
            >Add a value</Action
          >
          <Action needs="planner" @click="set(['factor'], undefined)">Vary nothing else</Action>
        </div>
        <p v-if="plan.faultAt('candidates.factor')" class="text-[13px] text-brick" role="alert">
          ✕ {{ plan.faultAt('candidates.factor')?.message }}
          {{ plan.faultAt('candidates.factor')?.mend }}
        </p>
        <CandidateForm
          v-for="(one, i) in values"
          :key="i"
          value
          :path="['candidates', 'factor', 'values', i]"
          :of="one"
          :outline="outline"
          :removable="values.length > 2"
          @remove="remove(['factor', 'values'], i)"
        />
      </div>
    </template>
  </section>
</template>
