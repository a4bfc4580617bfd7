<script setup lang="ts">
/** A password being typed. */
defineProps<{ label: string; autocomplete: 'current-password' | 'new-password' }>()
const value = defineModel<string>({ required: true })
</script>

<template>
  <label class="block">
    <span class="label">{{ label }}</span>
    <input
      v-model="value"
      type="password"
      class="w-full rounded border border-rule bg-card px-3 py-2"
      :autocomplete="autocomplete"
      required
    />
  </label>
</template>
