<script setup lang="ts">
import { Dialog, DialogPanel, DialogTitle } from '@headlessui/vue'
import { ref } from 'vue'
import { useRole } from './role'
import { useHalt, useHaltAll } from '@/api/now'
import Action from './Action.vue'
import Problem from './Problem.vue'

/** Ends all load, from every page. While it is off there is nothing to end. */
const { may } = useRole()
const halt = useHalt()
const end = useHaltAll()
const asking = ref(false)
const why = ref('')
const first = ref<HTMLInputElement | null>(null)

async function confirm() {
  await end.mutateAsync(why.value).catch(() => undefined)
  if (!end.isSuccess.value) return
  asking.value = false
  why.value = ''
}
</script>

<template>
  <button
    v-if="may('planner') && !halt?.halted"
    type="button"
    class="rounded border border-brick px-2 text-[13px] whitespace-nowrap text-brick hover:bg-paper"
    @click="asking = true"
  >
    ■ Halt all load
  </button>
  <Dialog :open="asking" class="relative z-20" :initial-focus="first" @close="asking = false">
    <div class="fixed inset-0 bg-ink/30" aria-hidden="true" />
    <div class="fixed inset-0 flex items-start justify-center p-4 pt-24">
      <DialogPanel class="w-full max-w-md rounded border border-rule bg-card p-5 shadow-lg">
        <DialogTitle as="h2">Halt all load?</DialogTitle>
        <p class="mt-2">
          Every run and trial ends at once, everybody’s: what is under way is cut off. Nobody can
          begin another until you or an administrator lift it.
        </p>
        <form class="mt-4 space-y-4" @submit.prevent="confirm">
          <label class="block">
            <span class="label block">Why, for everybody to read (may stay empty)</span>
            <input ref="first" v-model="why" class="field" maxlength="300" autocomplete="off" />
          </label>
          <Problem v-if="end.isError.value" :error="end.error.value" />
          <div class="flex gap-2">
            <button
              type="submit"
              class="rounded border border-brick bg-brick px-3 py-1.5 text-on-copper disabled:opacity-50"
              :disabled="end.isPending.value"
            >
              Halt it now
            </button>
            <Action @click="asking = false">Cancel</Action>
          </div>
        </form>
      </DialogPanel>
    </div>
  </Dialog>
</template>
