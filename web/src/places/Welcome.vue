<script setup lang="ts">
import { ref } from 'vue'
import { useRouter } from 'vue-router'
import { useAccept, useWelcome } from '@/api/access'
import { useMe } from '@/api/queries'
import Loading from '@/ui/Loading.vue'
import Mark from '@/ui/Mark.vue'
import Problem from '@/ui/Problem.vue'
import SecretInput from '@/ui/SecretInput.vue'

/** Where an invitation's link leads. */
const props = defineProps<{ token: string }>()
useMe() // hands out the token that joining needs
const welcome = useWelcome(props.token)
const accept = useAccept(props.token)
const router = useRouter()
const name = ref('')
const password = ref('')

async function join() {
  await accept.mutateAsync({ name: name.value, password: password.value }).catch(() => undefined)
  if (accept.isSuccess.value) await router.push('/experiments')
}
</script>

<template>
  <main class="mx-auto mt-24 max-w-sm px-5">
    <div class="mb-6 flex items-center gap-3">
      <Mark />
      <h1>Stone Kettle</h1>
    </div>
    <Loading v-if="welcome.isPending.value" what="the invitation" />
    <Problem v-else-if="welcome.isError.value" :error="welcome.error.value" />
    <form v-else class="space-y-4" @submit.prevent="join">
      <p>
        {{ welcome.data.value?.invited_by }} invites you as {{ welcome.data.value?.role }}. Choose a
        name and a password.
      </p>
      <label class="block">
        <span class="label">Name</span>
        <input
          v-model="name"
          class="w-full rounded border border-rule bg-card px-3 py-2"
          autocomplete="username"
          required
          autofocus
        />
      </label>
      <SecretInput v-model="password" label="Password" autocomplete="new-password" />
      <button
        type="submit"
        class="rounded bg-copper px-4 py-2 text-on-copper"
        :disabled="accept.isPending.value"
      >
        Join
      </button>
      <Problem v-if="accept.isError.value" :error="accept.error.value" />
    </form>
  </main>
</template>
