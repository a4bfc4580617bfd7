<script setup lang="ts">
import { useRoute, useRouter } from 'vue-router'
import { useMe, useSignIn } from '@/api/queries'
import Entrance from '@/ui/Entrance.vue'
import Problem from '@/ui/Problem.vue'

useMe() // hands out the token that signing in needs
const signIn = useSignIn()
const route = useRoute()
const router = useRouter()

async function enter(name: string, password: string) {
  await signIn.mutateAsync({ name, password }).catch(() => undefined)
  if (signIn.isSuccess.value) await router.push(String(route.query.next ?? '/experiments'))
}
</script>

<template>
  <Entrance
    :does="signIn.isPending.value ? 'Signing in …' : 'Sign in'"
    :busy="signIn.isPending.value"
    password="current-password"
    @enter="enter"
  >
    <Problem v-if="signIn.isError.value" :error="signIn.error.value" />
    <p class="label">
      Who started Stone Kettle has the first name and password: they were printed then.
    </p>
  </Entrance>
</template>
