<script setup lang="ts">
import { Dialog, DialogPanel, DialogTitle } from '@headlessui/vue'
import Action from './Action.vue'
import { shortcuts } from './shortcuts'

const open = defineModel<boolean>({ required: true })
</script>

<template>
  <Dialog :open="open" class="relative z-20" @close="open = false">
    <div class="fixed inset-0 bg-ink/30" aria-hidden="true" />
    <div class="fixed inset-0 flex items-start justify-center p-4 pt-24">
      <DialogPanel class="w-full max-w-md rounded border border-rule bg-card p-5 shadow-lg">
        <DialogTitle as="h2">Keyboard</DialogTitle>
        <dl class="my-3 grid grid-cols-[auto_1fr] gap-x-4 gap-y-1.5">
          <template v-for="shortcut in shortcuts" :key="shortcut.keys">
            <dt>
              <kbd>{{ shortcut.keys }}</kbd>
            </dt>
            <dd>{{ shortcut.says }}</dd>
          </template>
        </dl>
        <Action @click="open = false">Close</Action>
      </DialogPanel>
    </div>
  </Dialog>
</template>
