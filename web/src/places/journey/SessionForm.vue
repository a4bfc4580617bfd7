<script setup lang="ts">
import { computed } from 'vue'
import Choice from '@/ui/Choice.vue'
import Field from '@/ui/Field.vue'
import { useSharedJourney, type SessionDoc } from './document'

/** What a user carries from request to request. */
const session = defineModel<SessionDoc>({ required: true })
const emit = defineEmits<{ done: [] }>()
const { faultBelow } = useSharedJourney()

const lives = [
  { value: 'life', text: "for the user's life" },
  { value: 'journey', text: 'for one journey' },
]
const files = [
  { value: 'once', text: 'fetched once by each user' },
  { value: 'always', text: 'fetched each time' },
]
const accesses = [
  { value: 'none', text: 'No credentials' },
  { value: 'bearer', text: 'Bearer token' },
  { value: 'basic', text: 'User and password' },
]
const access = computed(() => {
  const given = session.value.credentials
  return given?.bearer !== undefined ? 'bearer' : given?.user !== undefined ? 'basic' : 'none'
})
const fault = computed(() => faultBelow('session.credentials'))

function set(changes: Partial<SessionDoc>, save = true) {
  session.value = { ...session.value, ...changes }
  if (save) emit('done')
}
function chooseAccess(kind: string | undefined) {
  const empty = kind === 'bearer' ? { bearer: '' } : { user: '', password: '' }
  set({ credentials: kind === 'none' ? undefined : empty }, kind === 'none')
}
function setCredential(key: 'bearer' | 'user' | 'password', value: string | number | undefined) {
  set({ credentials: { ...session.value.credentials, [key]: String(value ?? '') } })
}
</script>

<template>
  <details>
    <summary class="label cursor-pointer">
      Session: cookies, connections, files, credentials
    </summary>
    <div class="mt-2 grid gap-3 sm:grid-cols-3">
      <Choice
        label="Cookies are kept"
        :model-value="session.cookies ?? 'life'"
        :options="lives"
        @update:model-value="set({ cookies: $event as SessionDoc['cookies'] })"
      />
      <Choice
        label="Connections are kept"
        :model-value="session.connections ?? 'life'"
        :options="lives"
        @update:model-value="set({ connections: $event as SessionDoc['connections'] })"
      />
      <Choice
        label="Accompanying files are"
        :model-value="session.cache === false ? 'always' : 'once'"
        :options="files"
        @update:model-value="set({ cache: $event === 'always' ? false : undefined })"
      />
      <Field
        label="User agent"
        :model-value="session.user_agent"
        @update:model-value="set({ user_agent: String($event ?? '') || undefined })"
      />
      <Choice
        label="Access"
        :model-value="access"
        :options="accesses"
        @update:model-value="chooseAccess"
      />
      <Field
        v-if="access === 'bearer'"
        label="Token"
        type="password"
        hint="Kept, and not shown again"
        :model-value="session.credentials?.bearer"
        :fault="fault"
        @update:model-value="setCredential('bearer', $event)"
      />
      <template v-if="access === 'basic'">
        <Field
          label="User"
          :model-value="session.credentials?.user"
          :fault="fault"
          @update:model-value="setCredential('user', $event)"
        />
        <Field
          label="Password"
          type="password"
          hint="Kept, and not shown again"
          :model-value="session.credentials?.password"
          @update:model-value="setCredential('password', $event)"
        />
      </template>
    </div>
  </details>
</template>
