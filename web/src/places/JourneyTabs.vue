<script setup lang="ts">
/** Journeys, and the feeds that make their users differ. */
const places = [
  { to: '/journeys', name: 'Journeys' },
  { to: '/journeys/feeds', name: 'Feeds' },
]
</script>

<template>
  <nav class="mb-4 flex gap-4" aria-label="Journeys and feeds">
    <RouterLink
      v-for="place in places"
      :key="place.to"
      :to="place.to"
      class="text-ink-2 hover:text-ink"
      exact-active-class="!text-ink border-b-2 border-copper"
    >
      {{ place.name }}
    </RouterLink>
  </nav>
</template>
