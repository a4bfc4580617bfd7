<script setup lang="ts">
import { computed, ref } from 'vue'
import {
  useGiveRole,
  useInvitations,
  useInvite,
  useLock,
  usePeople,
  useResetPassword,
  useWithdraw,
  type PersonLine,
  type Role,
} from '@/api/access'
import { useMe } from '@/api/queries'
import Action from '@/ui/Action.vue'
import Choice from '@/ui/Choice.vue'
import Loading from '@/ui/Loading.vue'
import Problem from '@/ui/Problem.vue'
import { when } from '@/ui/format'

/** Everybody who may come in, and what they may. */
const me = useMe()
const people = usePeople()
const invitations = useInvitations()
const role = useGiveRole()
const lock = useLock()
const reset = useResetPassword()
const invite = useInvite()
const withdraw = useWithdraw()

const ROLES: { value: Role; text: string }[] = [
  { value: 'reader', text: 'reader' },
  { value: 'planner', text: 'planner' },
  { value: 'administrator', text: 'administrator' },
]
const note = ref('')
const wanted = ref<string>('planner')
const days = ref<string>('7')
const link = ref('')
const fresh = ref<{ name: string; password: string }>()
const refused = computed(() =>
  [role, lock, reset, withdraw].map((change) => change.error.value).find((error) => error),
)

async function make() {
  const given = { note: note.value, role: wanted.value as Role, days: Number(days.value) }
  const made = await invite.mutateAsync(given).catch(() => undefined)
  if (!made) return
  link.value = `${window.location.origin}/welcome/${made.token}`
  note.value = ''
}
async function renew(person: PersonLine) {
  const asks = `Give ${person.name} a new password? The present one and all sessions end at once.`
  if (!window.confirm(asks)) return
  const told = await reset.mutateAsync(person.id).catch(() => undefined)
  if (told) fresh.value = { name: person.name, password: told.password }
}
function shut(person: PersonLine) {
  const asks = `Lock ${person.name} out? They are signed out everywhere at once.`
  if (!person.active || window.confirm(asks))
    lock.mutate({ person: person.id, given: person.active })
}
</script>

<template>
  <h1 class="mb-1">People</h1>
  <p class="mb-4 max-w-prose text-ink-2">
    Readers see and export everything. Planners also edit and run. Administrators also delete,
    decide how long runs are kept, and look after people.
  </p>
  <Loading v-if="people.isPending.value" what="the people" />
  <Problem v-else-if="people.isError.value" :error="people.error.value" />
  <div v-else class="grid gap-8 lg:grid-cols-[2fr_1fr]">
    <section class="min-w-0" aria-label="Everybody">
      <Problem v-if="refused" class="mb-3" :error="refused" />
      <p v-if="fresh" class="mb-3 border-l-2 border-copper pl-3" role="status">
        The password of {{ fresh.name }} is
        <code class="figures break-all select-all">{{ fresh.password }}</code>. Tell it them now, it
        is not shown again; they choose their own when they sign in.
      </p>
      <ul class="divide-y divide-rule border-y border-rule">
        <li
          v-for="person in people.data.value"
          :key="person.id"
          class="flex flex-wrap items-end gap-3 py-3"
          :data-person="person.name"
        >
          <div class="mr-auto min-w-0">
            <p class="break-all">
              <strong>{{ person.name }}</strong>
              <span v-if="person.name === me.data.value?.name" class="label"> you</span>
              <span v-if="!person.active" class="ml-2 text-brick">✕ locked out</span>
              <span v-else-if="person.must_change" class="label ml-2">
                has to choose a password</span
              >
            </p>
            <p class="label">
              here since {{ when(person.joined_at) }},
              {{
                person.signed_in_at ? `signed in ${when(person.signed_in_at)}` : 'never signed in'
              }}
            </p>
          </div>
          <Choice
            :key="`${person.role} ${role.submittedAt.value}`"
            :label="`Role of ${person.name}`"
            label-hidden
            class="w-36"
            :options="ROLES"
            :model-value="person.role"
            :disabled="role.isPending.value"
            @update:model-value="role.mutate({ person: person.id, given: $event as Role })"
          />
          <Action
            :disabled="person.name === me.data.value?.name"
            :aria-label="`New password for ${person.name}`"
            @click="renew(person)"
            >New password</Action
          >
          <Action
            :kind="person.active ? 'danger' : 'plain'"
            :disabled="person.name === me.data.value?.name"
            :aria-label="`${person.active ? 'Lock out' : 'Let in again'}: ${person.name}`"
            @click="shut(person)"
            >{{ person.active ? 'Lock out' : 'Let in again' }}</Action
          >
        </li>
      </ul>
    </section>
    <aside class="min-w-0 space-y-3" aria-label="Invitations">
      <h2>Invite somebody</h2>
      <form class="space-y-3" @submit.prevent="make">
        <label class="block">
          <span class="label block">For whom</span>
          <input
            v-model="note"
            class="field"
            placeholder="a name, a team"
            maxlength="200"
            autocomplete="off"
            required
          />
        </label>
        <div class="grid grid-cols-2 gap-3">
          <Choice v-model="wanted" label="As" :options="ROLES" />
          <Choice
            v-model="days"
            label="The link works for"
            :options="[
              { value: '1', text: 'a day' },
              { value: '7', text: '7 days' },
              { value: '30', text: '30 days' },
            ]"
          />
        </div>
        <button
          type="submit"
          class="rounded bg-copper px-3 py-1.5 text-on-copper disabled:opacity-50"
          :disabled="invite.isPending.value"
        >
          Make a link
        </button>
      </form>
      <Problem v-if="invite.isError.value" :error="invite.error.value" />
      <p v-if="link" class="text-[13.5px]" role="status">
        Send it to them; it works once, and is not shown again:
        <code class="figures block break-all select-all" data-testid="invitation-link">{{
          link
        }}</code>
      </p>
      <template v-if="invitations.data.value?.length">
        <h2>Open invitations</h2>
        <ul class="space-y-2">
          <li
            v-for="open in invitations.data.value"
            :key="open.id"
            class="flex items-baseline gap-3"
          >
            <span class="min-w-0 break-words"
              >{{ open.note }}, {{ open.role }}
              <span class="label block"
                >by {{ open.invited_by }}, until
                {{ new Date(open.expires_at).toLocaleDateString() }}</span
              ></span
            >
            <button
              type="button"
              class="ml-auto text-copper"
              :aria-label="`Withdraw the invitation of ${open.note}`"
              @click="withdraw.mutate(open.id)"
            >
              Withdraw
            </button>
          </li>
        </ul>
      </template>
    </aside>
  </div>
</template>
