<script setup lang="ts">
import { computed, ref } from 'vue'
import { useChangePassword } from '@/api/access'
import { useMe } from '@/api/queries'
import Problem from '@/ui/Problem.vue'
import SecretInput from '@/ui/SecretInput.vue'
import Sessions from './you/Sessions.vue'
import Outside from './you/Outside.vue'
import Tokens from './you/Tokens.vue'

/** One's own page: who one is here, and one's password. */
const me = useMe()
const change = useChangePassword()
const present = ref('')
const wanted = ref('')
const again = ref('')
const differs = computed(() => again.value !== '' && again.value !== wanted.value)
const SAYS: Record<string, string> = {
  reader: 'You see and export everything. To edit or run, ask an administrator.',
  planner: 'You see, edit and run everything.',
  administrator: 'You may do everything, and look after the people.',
}

async function save() {
  if (differs.value) return
  await change
    .mutateAsync({ present: present.value, password: wanted.value })
    .then(() => (present.value = wanted.value = again.value = ''))
    .catch(() => undefined)
}
</script>

<template>
  <h1 class="mb-1 break-words">{{ me.data.value?.name }}, {{ me.data.value?.role }}</h1>
  <p class="mb-6">{{ SAYS[me.data.value?.role ?? 'reader'] }}</p>
  <p v-if="me.data.value?.must_change" class="mb-4 border-l-2 border-ochre pl-3" role="status">
    Your password was reset by an administrator. Choose your own before you go on.
  </p>
  <div class="grid items-start gap-10 lg:grid-cols-3">
    <form class="space-y-4" aria-label="Password" @submit.prevent="save">
      <h2>Password</h2>
      <SecretInput v-model="present" label="Present password" autocomplete="current-password" />
      <SecretInput v-model="wanted" label="New password" autocomplete="new-password" />
      <SecretInput v-model="again" label="New password once more" autocomplete="new-password" />
      <p v-if="differs" class="text-brick" role="alert">✕ The two are not the same.</p>
      <button
        type="submit"
        class="rounded bg-copper px-4 py-2 text-on-copper disabled:opacity-50"
        :disabled="change.isPending.value || differs"
      >
        Change password
      </button>
      <Problem v-if="change.isError.value" :error="change.error.value" />
      <p v-if="change.isSuccess.value" role="status">
        Changed. Wherever else you were signed in, you are not any more.
      </p>
      <Outside v-if="!me.data.value?.must_change" />
    </form>
    <Sessions v-if="!me.data.value?.must_change" :key="change.submittedAt.value" />
    <Tokens v-if="!me.data.value?.must_change" />
  </div>
</template>
