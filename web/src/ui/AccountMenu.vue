<script setup lang="ts">
import { Menu, MenuButton, MenuItem, MenuItems } from '@headlessui/vue'
import { computed } from 'vue'
import { useRouter } from 'vue-router'
import { useRole } from './role'
import { useMe, useSignOut } from '@/api/queries'

/** Who is signed in, and where that leads. */
const me = useMe()
const { may } = useRole()
const router = useRouter()
const signOut = useSignOut()
const places = computed(() => [
  { to: '/you', name: 'Your page' },
  { to: '/targets', name: 'Targets' },
  { to: '/deeds', name: 'Who did what' },
  ...(may('administrator') ? [{ to: '/people', name: 'People' }] : []),
])
async function leave() {
  await signOut.mutateAsync()
  await router.push('/sign-in')
}
</script>

<template>
  <Menu as="div" class="relative">
    <MenuButton class="label max-w-40 truncate hover:text-ink">
      {{ me.data.value?.name }} <span aria-hidden="true">▾</span>
    </MenuButton>
    <MenuItems
      class="absolute right-0 z-20 mt-2 w-52 rounded border border-rule bg-card py-1 shadow-lg"
    >
      <p class="label border-b border-rule px-3 py-1.5 break-words">
        {{ me.data.value?.name }}, {{ me.data.value?.role }}
      </p>
      <MenuItem v-for="place in places" :key="place.to" v-slot="{ active }">
        <RouterLink
          :to="place.to"
          class="block px-3 py-1.5 text-ink hover:no-underline"
          :class="{ 'bg-paper': active }"
        >
          {{ place.name }}
        </RouterLink>
      </MenuItem>
      <MenuItem v-slot="{ active }">
        <button
          type="button"
          class="block w-full px-3 py-1.5 text-left"
          :class="{ 'bg-paper': active }"
          @click="leave"
        >
          Sign out
        </button>
      </MenuItem>
    </MenuItems>
  </Menu>
</template>
