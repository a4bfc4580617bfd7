<script setup lang="ts">
import Action from './Action.vue'

/** What every document can have done to it as a whole. */
defineProps<{ archived: boolean; copying: boolean; archiving: boolean }>()
defineEmits<{ copy: []; archive: [archived: boolean] }>()
</script>

<template>
  <Action needs="planner" :busy="copying" @click="$emit('copy')">Duplicate</Action>
  <Action needs="planner" :busy="archiving" @click="$emit('archive', !archived)">
    {{ archived ? 'Bring back' : 'Archive' }}
  </Action>
</template>
