<script setup lang="ts">
import { useRoute } from 'vue-router'

defineProps<{ id: number; name: string; archived: boolean }>()
const route = useRoute()
</script>

<template>
  <header class="space-y-2">
    <h1 class="break-words">{{ name }} <span v-if="archived" class="label">archived</span></h1>
    <nav class="flex gap-4" aria-label="Parts of the system">
      <RouterLink
        v-for="part in [
          { to: `/systems/${id}`, text: 'Description' },
          { to: `/systems/${id}/metrics`, text: 'Metric shelf' },
        ]"
        :key="part.to"
        :to="part.to"
        class="border-b-2 border-transparent text-ink-2 hover:text-ink hover:no-underline"
        :class="{ '!border-copper !text-ink': route.path === part.to }"
      >
        {{ part.text }}
      </RouterLink>
    </nav>
  </header>
</template>
