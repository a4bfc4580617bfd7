<script setup lang="ts">
import { computed, ref } from 'vue'
import { useMakeToken, useTokens, useWithdrawToken, type Role } from '@/api/access'
import { useRole } from '@/ui/role'
import Choice from '@/ui/Choice.vue'
import Problem from '@/ui/Problem.vue'
import { when } from '@/ui/format'

/** What scripts of one's own show instead of a session. */
const { may } = useRole()
const tokens = useTokens()
const make = useMakeToken()
const withdraw = useWithdrawToken()
const name = ref('')
const role = ref<string>('reader')
const days = ref<string>('30')
const fresh = ref('')
const ROLES: Role[] = ['reader', 'planner', 'administrator']
const roles = computed(() => ROLES.filter(may).map((value) => ({ value, text: value })))

async function create() {
  const given = { name: name.value, role: role.value as Role, days: Number(days.value) }
  const made = await make.mutateAsync(given).catch(() => undefined)
  if (!made) return
  fresh.value = made.text
  name.value = ''
}
const ended = (until: string) => new Date(until) < new Date()
</script>

<template>
  <section class="space-y-3" aria-label="Tokens">
    <h2>Tokens for scripts</h2>
    <p class="max-w-prose text-[13.5px]">
      A script shows one with each request:
      <code class="figures">Authorization: Bearer</code> and the token. What it does is told as done
      by you. It cannot change passwords or decide who comes in.
    </p>
    <Problem v-if="tokens.isError.value" :error="tokens.error.value" />
    <ul v-if="tokens.data.value?.length" class="divide-y divide-rule border-y border-rule">
      <li v-for="token in tokens.data.value" :key="token.id" class="flex items-baseline gap-3 py-2">
        <div class="min-w-0">
          <p class="break-words">
            <strong>{{ token.name }}</strong>, {{ token.role }}
          </p>
          <p class="label">
            {{ ended(token.expires_at) ? 'ended' : 'works until' }} {{ when(token.expires_at) }},
            {{ token.used_at ? `used ${when(token.used_at)}` : 'never used' }}
          </p>
        </div>
        <button
          type="button"
          class="ml-auto text-copper"
          :aria-label="`Withdraw the token ${token.name}`"
          @click="withdraw.mutate(token.id)"
        >
          Withdraw
        </button>
      </li>
    </ul>
    <Problem v-if="withdraw.isError.value" :error="withdraw.error.value" />
    <p v-if="fresh" class="text-[13.5px]" role="status">
      Copy it now, it is not shown again:
      <code class="figures block break-all select-all" data-testid="new-token">{{ fresh }}</code>
    </p>
    <form class="space-y-3" @submit.prevent="create">
      <label class="block">
        <span class="label block">For what</span>
        <input
          v-model="name"
          class="field"
          maxlength="80"
          placeholder="nightly run"
          autocomplete="off"
          required
        />
      </label>
      <div class="grid grid-cols-2 gap-3">
        <Choice v-model="role" label="It may what a … may" :options="roles" />
        <Choice
          v-model="days"
          label="It works for"
          :options="[
            { value: '7', text: '7 days' },
            { value: '30', text: '30 days' },
            { value: '90', text: '90 days' },
            { value: '365', text: 'a year' },
          ]"
        />
      </div>
      <button
        type="submit"
        class="rounded bg-copper px-3 py-1.5 text-on-copper disabled:opacity-50"
        :disabled="make.isPending.value"
      >
        Make a token
      </button>
      <Problem v-if="make.isError.value" :error="make.error.value" />
    </form>
  </section>
</template>
