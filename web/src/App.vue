<script setup lang="ts">
import { computed, ref, watchEffect } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { useMe } from '@/api/queries'
import JumpPalette from '@/ui/JumpPalette.vue'
import Loading from '@/ui/Loading.vue'
import Problem from '@/ui/Problem.vue'
import { provideRole } from '@/ui/role'
import ShortcutHelp from '@/ui/ShortcutHelp.vue'
import { useShortcuts } from '@/ui/shortcuts'
import TopBar from '@/ui/TopBar.vue'

const route = useRoute()
const router = useRouter()
const me = useMe()
provideRole()
const jumping = ref(false)
const helping = ref(false)
const signedIn = computed(() => Boolean(me.data.value?.name))

useShortcuts([
  { keys: 'Ctrl K', says: 'Jump to a place, experiment or run', act: () => (jumping.value = true) },
  { keys: '?', says: 'Show these shortcuts', act: () => (helping.value = true) },
])

watchEffect(() => {
  if (me.isSuccess.value && !signedIn.value && route.matched.length && !route.meta.open)
    void router.replace({ path: '/sign-in', query: { next: route.fullPath } })
  if (me.data.value?.must_change && route.path !== '/you' && !route.meta.open)
    void router.replace('/you')
})
</script>

<template>
  <RouterView v-if="route.meta.open" />
  <template v-else-if="signedIn">
    <TopBar @jump="jumping = true" @help="helping = true" />
    <main class="mx-auto max-w-[1440px] px-5 py-5">
      <RouterView :key="route.path" />
    </main>
    <JumpPalette v-model="jumping" />
    <ShortcutHelp v-model="helping" />
  </template>
  <Problem v-else-if="me.isError.value" class="m-8" :error="me.error.value" />
  <Loading v-else what="who is signed in" class="px-8" />
</template>
