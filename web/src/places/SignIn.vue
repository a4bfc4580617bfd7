<script setup lang="ts">
import { ref } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { useMe, useSignIn } from '@/api/queries'
import Mark from '@/ui/Mark.vue'
import Problem from '@/ui/Problem.vue'
import SecretInput from '@/ui/SecretInput.vue'

useMe() // hands out the token that signing in needs
const name = ref('')
const password = ref('')
const signIn = useSignIn()
const route = useRoute()
const router = useRouter()

async function enter() {
  await signIn.mutateAsync({ name: name.value, password: password.value }).catch(() => undefined)
  if (signIn.isSuccess.value) await router.push(String(route.query.next ?? '/experiments'))
}
</script>

<template>
  <main class="mx-auto mt-24 max-w-sm px-5">
    <div class="mb-6 flex items-center gap-3">
      <Mark />
      <h1>Stone Kettle</h1>
    </div>
    <form class="space-y-4" @submit.prevent="enter">
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
      <SecretInput v-model="password" label="Password" autocomplete="current-password" />
      <button
        type="submit"
        class="rounded bg-copper px-4 py-2 text-on-copper"
        :disabled="signIn.isPending.value"
      >
        {{ signIn.isPending.value ? 'Signing in …' : 'Sign in' }}
      </button>
      <Problem v-if="signIn.isError.value" :error="signIn.error.value" />
      <p class="label">
        Who started Stone Kettle has the first name and password: they were printed then.
      </p>
    </form>
  </main>
</template>
