<script setup lang="ts">
import { useRouter } from 'vue-router'
import { useAccept, useWelcome } from '@/api/access'
import { useMe } from '@/api/queries'
import Entrance from '@/ui/Entrance.vue'
import Loading from '@/ui/Loading.vue'
import Problem from '@/ui/Problem.vue'

/** Where an invitation's link leads. */
const props = defineProps<{ token: string }>()
useMe() // hands out the token that joining needs
const welcome = useWelcome(props.token)
const accept = useAccept(props.token)
const router = useRouter()

async function join(name: string, password: string) {
  await accept.mutateAsync({ name, password }).catch(() => undefined)
  if (accept.isSuccess.value) await router.push('/experiments')
}
</script>

<template>
  <Entrance
    does="Join"
    :busy="accept.isPending.value"
    password="new-password"
    :closed="!welcome.isSuccess.value"
    @enter="join"
  >
    <template #before>
      <Loading v-if="welcome.isPending.value" what="the invitation" />
      <Problem v-else-if="welcome.isError.value" :error="welcome.error.value" />
      <p v-else class="mb-4">
        {{ welcome.data.value?.invited_by }} invites you as {{ welcome.data.value?.role }}. Choose a
        name and a password.
      </p>
    </template>
    <Problem v-if="accept.isError.value" :error="accept.error.value" />
  </Entrance>
</template>
