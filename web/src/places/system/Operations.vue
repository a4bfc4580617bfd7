<script setup lang="ts">
import Action from '@/ui/Action.vue'
import Credentials from '@/ui/Credentials.vue'
import Field from '@/ui/Field.vue'
import type { Fault } from '@/api/problem'
import OperationChanges from './OperationChanges.vue'
import type { OperationsDoc } from './document'

/** Where a system is changed by calls, and how whoever takes them knows that they are ours. */
defineProps<{ faultAt: (path: string) => Fault | undefined; disabled: boolean }>()
const given = defineModel<OperationsDoc | undefined>()
const emit = defineEmits<{ done: [] }>()
function set(change: Partial<OperationsDoc>) {
  if (given.value) given.value = { ...given.value, ...change }
}
function none() {
  given.value = undefined
  emit('done')
}
</script>

<template>
  <section aria-label="Operations" class="space-y-2">
    <h2>Operations</h2>
    <template v-if="!given">
      <p class="max-w-prose text-ink-2">
        Where deployments, restarts and settings are asked for by calls. Experiments whose
        candidates take turns need it, and so does changing the system while a run loads it.
      </p>
      <Action needs="planner" :disabled="disabled" @click="given = { address: '' }"
        >Describe its operations</Action
      >
    </template>
    <fieldset v-else :disabled="disabled" class="grid min-w-0 gap-3 sm:grid-cols-2">
      <Field
        label="Address"
        mono
        placeholder="https://deploy.example"
        :model-value="given?.address"
        :fault="faultAt('operations.address')"
        @update:model-value="set({ address: String($event ?? '') })"
        @done="emit('done')"
      />
      <Field
        label="Signing key"
        type="password"
        hint="Calls that are signed carry an HMAC by it. Kept, and not shown again"
        :model-value="given?.signing_key"
        :fault="faultAt('operations.signing_key')"
        @update:model-value="set({ signing_key: $event ? String($event) : undefined })"
        @done="emit('done')"
      />
      <Credentials
        :model-value="given?.credentials"
        :fault="faultAt('operations.credentials')"
        @update:model-value="set({ credentials: $event })"
        @done="emit('done')"
      />
      <OperationChanges
        :model-value="given?.changes ?? []"
        :fault-at="faultAt"
        :signs="Boolean(given?.signing_key)"
        :disabled="disabled"
        @update:model-value="set({ changes: $event })"
        @done="emit('done')"
      />
      <div class="sm:col-span-2">
        <Action needs="planner" @click="none">Remove its operations</Action>
      </div>
    </fieldset>
  </section>
</template>
