<script setup lang="ts">
import { computed } from 'vue'
import { useRoute } from 'vue-router'
import { REFUSED, useConnect, useDisconnect, useOutside } from '@/api/access'
import Action from '@/ui/Action.vue'
import Problem from '@/ui/Problem.vue'

/** Signing in by another service, where the installation has one. */
const route = useRoute()
const outside = useOutside()
const connect = useConnect()
const disconnect = useDisconnect()
const name = computed(() => outside.data.value?.name)
const refused = computed(() => REFUSED[String(route.query.refused ?? '')])
</script>

<template>
  <section v-if="name" class="space-y-2 border-t border-rule pt-3" aria-label="Another sign-in">
    <h2>Sign-in by {{ name }}</h2>
    <p v-if="outside.data.value?.connected">It is yours: you come in by it as well.</p>
    <p v-else class="text-ink-2">Not connected. Connect it, to come in without your password.</p>
    <p v-if="refused" class="text-brick" role="alert">✕ {{ refused }}</p>
    <Problem v-if="disconnect.isError.value" :error="disconnect.error.value" />
    <Action
      v-if="outside.data.value?.connected"
      :busy="disconnect.isPending.value"
      @click="disconnect.mutate()"
      >Take it away</Action
    >
    <Action v-else :busy="connect.isPending.value" @click="connect.mutate()">Connect it</Action>
  </section>
</template>
