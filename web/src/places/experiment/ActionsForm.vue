<script setup lang="ts">
import { computed } from 'vue'
import Action from '@/ui/Action.vue'
import Field from '@/ui/Field.vue'
import type { Path } from '@/ui/yamlText'
import { pathText, usePlan, type ActionDoc } from './plan'

/** What is done to a system, in order: calls, each a method with an address or a path at the system's operations. */
const props = defineProps<{ title: string; of: string; path: Path; actions: ActionDoc[] }>()
const plan = usePlan()
const below = computed(() => pathText(props.path))

function set(index: number, change: Partial<ActionDoc>) {
  const told = { ...props.actions[index], ...change }
  const kept = Object.entries(told).filter(([, value]) => value !== undefined && value !== '')
  plan.set([...props.path, index], Object.fromEntries(kept))
  plan.commit()
}
function add() {
  const call = { call: 'POST /' }
  if (props.actions.length) plan.insert(props.path, props.actions.length, call)
  else plan.set(props.path, [call])
  plan.commit()
}
function remove(index: number) {
  if (props.actions.length > 1) plan.remove(props.path, index)
  else plan.set(props.path, undefined)
  plan.commit()
}
</script>

<template>
  <div role="group" :aria-label="`${title}, ${of}`">
    <p class="label">{{ title }}</p>
    <div
      v-for="(action, i) in actions"
      :key="i"
      class="mb-2 grid items-end gap-x-3 gap-y-1 sm:grid-cols-[2fr_2fr_6rem_auto_auto]"
      data-testid="action"
    >
      <p
        v-if="action.command !== undefined"
        class="figures break-all sm:col-span-4"
        title="Commands are done by ./kettle run; the web application runs none."
      >
        {{ action.command }} <span class="label">by ./kettle run alone</span>
      </p>
      <template v-else>
        <Field
          label="Call"
          mono
          placeholder="PUT /planner/version"
          :fault="plan.faultAt(`${below}[${i}].call`)"
          :model-value="action.call"
          @update:model-value="set(i, { call: String($event ?? '') })"
        />
        <Field
          label="Body"
          mono
          :model-value="action.body"
          @update:model-value="set(i, { body: String($event ?? '') })"
        />
        <Field
          label="Within"
          mono
          placeholder="30 s"
          :fault="plan.faultAt(`${below}[${i}].within`)"
          :model-value="action.within"
          @update:model-value="set(i, { within: String($event ?? '') })"
        />
        <label class="flex items-center gap-2 pb-2"
          ><input
            type="checkbox"
            :checked="action.signed ?? false"
            @change="set(i, { signed: ($event.target as HTMLInputElement).checked || undefined })"
          />
          signed</label
        >
      </template>
      <Action :aria-label="`Remove action ${i + 1}, ${title}, ${of}`" @click="remove(i)"
        >Remove</Action
      >
      <p
        v-if="
          plan.faultBelow(`${below}[${i}]`) &&
          !plan.faultAt(`${below}[${i}].call`) &&
          !plan.faultAt(`${below}[${i}].within`)
        "
        class="col-span-full text-[13px] text-brick"
        role="alert"
      >
        ✕ {{ plan.faultBelow(`${below}[${i}]`)?.message }}
        {{ plan.faultBelow(`${below}[${i}]`)?.mend }}
      </p>
    </div>
    <Action needs="planner" :aria-label="`Add a call, ${title}, ${of}`" @click="add"
      >Add a call</Action
    >
  </div>
</template>
