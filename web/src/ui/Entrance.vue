<script setup lang="ts">
import { ref } from 'vue'
import Mark from './Mark.vue'
import SecretInput from './SecretInput.vue'

/** The page of whoever is outside: a name and a password, and what to do with them. */
defineProps<{
  does: string
  busy: boolean
  password: 'current-password' | 'new-password'
  closed?: boolean
}>()
const emit = defineEmits<{ enter: [name: string, password: string] }>()
const name = ref('')
const secret = ref('')
</script>

<template>
  <main class="mx-auto mt-24 max-w-sm px-5">
    <div class="mb-6 flex items-center gap-3">
      <Mark />
      <h1>Stone Kettle</h1>
    </div>
    <slot name="before" />
    <form v-if="!closed" class="space-y-4" @submit.prevent="emit('enter', name, secret)">
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
      <SecretInput v-model="secret" label="Password" :autocomplete="password" />
      <button type="submit" class="rounded bg-copper px-4 py-2 text-on-copper" :disabled="busy">
        {{ does }}
      </button>
      <slot />
    </form>
  </main>
</template>
