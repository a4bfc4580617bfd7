<script setup lang="ts">
import Choice from '@/ui/Choice.vue'
import Credentials from '@/ui/Credentials.vue'
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
function set(changes: Partial<SessionDoc>, save = true) {
  session.value = { ...session.value, ...changes }
  if (save) emit('done')
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
      <Credentials
        :model-value="session.credentials"
        :fault="faultBelow('session.credentials')"
        @update:model-value="set({ credentials: $event }, false)"
        @done="emit('done')"
      />
    </div>
  </details>
</template>
