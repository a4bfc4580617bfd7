<script setup lang="ts">
import { computed } from 'vue'
import type { Fault } from '@/api/problem'
import Choice from './Choice.vue'
import Field from './Field.vue'

/** How one signs in with HTTP itself. Secrets are kept by the server and not shown again. */
interface Given {
  bearer?: string
  user?: string
  password?: string
}
defineProps<{ fault?: Fault }>()
const emit = defineEmits<{ done: [] }>()
const given = defineModel<Given | undefined>()

const accesses = [
  { value: 'none', text: 'No credentials' },
  { value: 'bearer', text: 'Bearer token' },
  { value: 'basic', text: 'User and password' },
]
const access = computed(() =>
  given.value?.bearer !== undefined ? 'bearer' : given.value?.user !== undefined ? 'basic' : 'none',
)

function choose(kind: string | undefined) {
  given.value =
    kind === 'bearer' ? { bearer: '' } : kind === 'basic' ? { user: '', password: '' } : undefined
  if (kind === 'none') emit('done')
}
function set(key: keyof Given, value: string | number | undefined) {
  given.value = { ...given.value, [key]: String(value ?? '') }
}
</script>

<template>
  <Choice label="Access" :model-value="access" :options="accesses" @update:model-value="choose" />
  <Field
    v-if="access === 'bearer'"
    label="Token"
    type="password"
    hint="Kept, and not shown again"
    :model-value="given?.bearer"
    :fault="fault"
    @update:model-value="set('bearer', $event)"
    @done="emit('done')"
  />
  <template v-if="access === 'basic'">
    <Field
      label="User"
      :model-value="given?.user"
      :fault="fault"
      @update:model-value="set('user', $event)"
      @done="emit('done')"
    />
    <Field
      label="Password"
      type="password"
      hint="Kept, and not shown again"
      :model-value="given?.password"
      @update:model-value="set('password', $event)"
      @done="emit('done')"
    />
  </template>
</template>
