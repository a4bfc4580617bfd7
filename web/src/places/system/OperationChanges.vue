<script setup lang="ts">
import Action from '@/ui/Action.vue'
import Field from '@/ui/Field.vue'
import type { Fault } from '@/api/problem'
import type { ChangeDoc } from './document'

/** Changes that can be asked for while a run loads the system: a call each, and what tells that it is done. */
defineProps<{ faultAt: (path: string) => Fault | undefined; signs: boolean; disabled: boolean }>()
const changes = defineModel<ChangeDoc[]>({ required: true })
const emit = defineEmits<{ done: [] }>()

function add() {
  const name = `Change ${changes.value.length + 1}`
  const call = 'PUT /components/{{component}}/instances'
  changes.value = [...changes.value, { name, does: { call, body: '{"instances": {{count}}}' } }]
  emit('done')
}
function remove(index: number) {
  changes.value = changes.value.filter((_, i) => i !== index)
  emit('done')
}
function setReady(change: ChangeDoc, ask: unknown) {
  const text = String(ask ?? '').trim()
  change.ready = text ? { ...change.ready, ask: text } : undefined
}
function setProbe(change: ChangeDoc, part: 'ask' | 'every' | 'within', typed: unknown) {
  const text = String(typed ?? '').trim()
  if (part === 'ask') change.probe = text ? { ...change.probe, ask: text } : undefined
  else if (change.probe) change.probe = { ...change.probe, [part]: text || undefined }
}
const WORDS = { component: '{{component}}', count: '{{count}}', body: '{"instances": {{count}}}' }
const path = (i: number, rest: string) => `operations.changes[${i}].${rest}`
</script>

<template>
  <div class="space-y-3 sm:col-span-2">
    <div>
      <h3 class="font-semibold">Changes under load</h3>
      <p class="max-w-prose text-[13.5px] text-ink-2">
        What can be asked for on the page of a run under way. Words between double braces, such as
        <code>{{ WORDS.component }}</code> and <code>{{ WORDS.count }}</code>, are asked for each
        time.
      </p>
    </div>
    <div
      v-for="(change, i) in changes"
      :key="i"
      class="grid gap-x-3 gap-y-1 border-l-2 border-rule pl-3 sm:grid-cols-[12rem_minmax(0,1fr)]"
      role="group"
      :aria-label="`Change ${i + 1}`"
    >
      <Field
        v-model="change.name"
        label="Name"
        :fault="faultAt(path(i, 'name'))"
        @done="emit('done')"
      />
      <Field
        v-model="change.does.call"
        label="Call"
        mono
        placeholder="PUT /components/{{component}}/instances"
        :fault="faultAt(path(i, 'does.call')) ?? faultAt(`operations.changes[${i}]`)"
        @done="emit('done')"
      />
      <div class="grid gap-x-3 gap-y-1 sm:col-span-2 sm:grid-cols-2">
        <Field
          v-model="change.does.body"
          label="Body"
          mono
          :placeholder="WORDS.body"
          :fault="faultAt(path(i, 'does.body'))"
          @done="emit('done')"
        />
        <Field
          :model-value="change.ready?.ask"
          label="Asked until it is ready"
          mono
          placeholder="/components/{{component}}/ready"
          :fault="faultAt(path(i, 'ready.ask')) ?? faultAt(path(i, 'ready'))"
          @update:model-value="setReady(change, $event)"
          @done="emit('done')"
        />
        <Field
          :model-value="change.probe?.ask"
          label="Each of many is asked after at"
          mono
          placeholder="/components/{{component}}/instances/{{number}}/ready"
          :fault="faultAt(path(i, 'probe.ask')) ?? faultAt(path(i, 'probe'))"
          @update:model-value="setProbe(change, 'ask', $event)"
          @done="emit('done')"
        />
        <div v-if="change.probe" class="grid grid-cols-2 gap-x-3">
          <Field
            :model-value="change.probe.every"
            label="Every"
            mono
            placeholder="1 s"
            :fault="faultAt(path(i, 'probe.every'))"
            @update:model-value="setProbe(change, 'every', $event)"
            @done="emit('done')"
          />
          <Field
            :model-value="change.probe.within"
            label="For at most"
            mono
            placeholder="10 min"
            :fault="faultAt(path(i, 'probe.within'))"
            @update:model-value="setProbe(change, 'within', $event)"
            @done="emit('done')"
          />
        </div>
      </div>
      <div class="flex flex-wrap items-center gap-3 sm:col-span-2">
        <label v-if="signs || change.does.signed" class="flex items-center gap-2">
          <input
            type="checkbox"
            :checked="change.does.signed"
            :disabled="disabled"
            @change="
              ((change.does.signed = ($event.target as HTMLInputElement).checked), emit('done'))
            "
          />
          Signed
        </label>
        <span v-if="faultAt(path(i, 'does.signed'))" class="text-[13px] text-brick" role="alert"
          >✕ {{ faultAt(path(i, 'does.signed'))?.message }}
          {{ faultAt(path(i, 'does.signed'))?.mend }}</span
        >
        <Action needs="planner" :aria-label="`Remove change ${i + 1}`" @click="remove(i)"
          >Remove</Action
        >
      </div>
    </div>
    <p v-if="faultAt('operations.changes')" class="text-[13px] text-brick" role="alert">
      ✕ {{ faultAt('operations.changes')?.message }} {{ faultAt('operations.changes')?.mend }}
    </p>
    <Action needs="planner" :disabled="disabled" @click="add">Add a change</Action>
  </div>
</template>
