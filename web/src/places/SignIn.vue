<script setup lang="ts">
import { computed } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { REFUSED } from '@/api/access'
import { useMe, useSignIn } from '@/api/queries'
import Entrance from '@/ui/Entrance.vue'
import Problem from '@/ui/Problem.vue'

const me = useMe() // hands out the token that signing in needs
const signIn = useSignIn()
const route = useRoute()
const router = useRouter()
const outside = computed(() => me.data.value?.outside)
const refused = computed(() => REFUSED[String(route.query.refused ?? '')])

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
    <p v-else-if="refused" class="text-brick" role="alert">✕ {{ refused }}</p>
    <p v-if="outside">
      <a href="/api/openid/begin">Sign in by {{ outside }}</a>
    </p>
    <p class="label">
      Who started Stone Kettle has the first name and password: they were printed then.
    </p>
  </Entrance>
</template>
