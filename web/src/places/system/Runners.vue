<script setup lang="ts">
import { computed, ref } from 'vue'
import { useChooseRunners, useRunners } from '@/api/systems'
import Action from '@/ui/Action.vue'
import Problem from '@/ui/Problem.vue'

/** Who may run on this system, beside administrators. */
const props = defineProps<{ id: number }>()
const runners = useRunners(() => props.id)
const choose = useChooseRunners(props.id)
const choosing = ref(false)
const chosen = ref<string[]>([])
const told = computed(() => runners.data.value?.people ?? [])
/** Somebody chosen before may be no planner any more, and can still be taken off. */
const offered = computed(() => [
  ...new Set([...(runners.data.value?.candidates ?? []), ...told.value]),
])

function begin() {
  chosen.value = [...told.value]
  choosing.value = true
}
async function save() {
  if (await choose.mutateAsync(chosen.value).catch(() => undefined)) choosing.value = false
}
</script>

<template>
  <section class="space-y-2 border-t border-rule pt-3" aria-label="Who may run">
    <h2>Who may run</h2>
    <Problem v-if="runners.isError.value" :error="runners.error.value" />
    <form v-else-if="choosing" class="space-y-2" @submit.prevent="save">
      <p v-if="!offered.length" class="text-ink-2">There are no planners yet. See People.</p>
      <label v-for="name in offered" :key="name" class="flex items-center gap-2 break-all">
        <input v-model="chosen" type="checkbox" :value="name" /> {{ name }}
      </label>
      <p class="label">Nobody chosen: every planner may. Administrators always may.</p>
      <Problem v-if="choose.isError.value" :error="choose.error.value" />
      <div class="flex gap-2">
        <Action type="submit" kind="primary" :busy="choose.isPending.value">Save</Action>
        <Action @click="choosing = false">Cancel</Action>
      </div>
    </form>
    <template v-else-if="runners.data.value">
      <p class="break-words">
        {{
          told.length
            ? `${told.join(', ')}, and administrators.`
            : 'Every planner and administrator.'
        }}
      </p>
      <Action needs="administrator" aria-label="Choose who may run" @click="begin">Choose</Action>
    </template>
  </section>
</template>
