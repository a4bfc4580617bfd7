<script setup lang="ts">
import { computed, type Ref } from 'vue'
import { useRole } from './role'
import type { Fault, Problem as Told } from '@/api/problem'
import DraftState from './DraftState.vue'
import Loading from './Loading.vue'
import Problem from './Problem.vue'
import type { Saving } from './draft'
import type { Clash } from './merge'
import { useShortcuts } from './shortcuts'

/** The frame of a document that is edited as one goes: its name, its state with the way back in the
 * margin, and whatever belongs below both. */
const props = defineProps<{
  what: string
  draft: {
    doc: Ref<object | null>
    query: {
      isPending: Ref<boolean>
      isError: Ref<boolean>
      error: Ref<Error | null>
      data: Ref<Framed | undefined>
    }
    save: { error: Ref<Error | null> }
    saving: Ref<Saving>
    outdated: Ref<Told | null>
    clashes: Ref<Clash[]>
    resolve: (choice: 'both' | 'mine' | 'theirs') => Promise<void>
    faults: Ref<Fault[]>
    commit: () => Promise<void>
    go: (way: 'undo' | 'redo') => Promise<void>
  }
}>()
interface Framed {
  name: string
  archived: boolean
  can_undo: boolean
  can_redo: boolean
}
const held = computed(() => props.draft.query.data.value)
const { reads } = useRole()
const fixed = computed(() => held.value?.archived ?? false)

useShortcuts([
  { keys: 'U', says: 'Undo the last change', act: () => void props.draft.go('undo') },
  { keys: 'R', says: 'Redo it', act: () => void props.draft.go('redo') },
])
</script>

<template>
  <Loading v-if="draft.query.isPending.value" :what="what" />
  <Problem
    v-else-if="draft.query.isError.value && !draft.doc.value"
    :error="draft.query.error.value"
  />
  <div v-else-if="draft.doc.value && held" class="space-y-5">
    <slot name="head">
      <h1 class="break-words">{{ held.name }} <span v-if="fixed" class="label">archived</span></h1>
    </slot>
    <div class="grid gap-8 lg:grid-cols-[2fr_1fr]">
      <aside class="min-w-0 space-y-5 lg:order-2" aria-label="State and actions">
        <DraftState
          :saving="draft.saving.value"
          :faults="draft.faults.value"
          :error="draft.save.error.value"
          :outdated="draft.outdated.value"
          :clashes="draft.clashes.value"
          :can-undo="held.can_undo && !fixed"
          :can-redo="held.can_redo && !fixed"
          @undo="draft.go('undo')"
          @redo="draft.go('redo')"
          @again="draft.commit()"
          @resolve="draft.resolve"
        />
        <p v-if="reads" class="text-[13.5px] text-ink-2">
          You read here. Planners change it; an administrator can make you one.
        </p>
        <slot name="margin" />
      </aside>
      <div class="min-w-0 space-y-5"><slot /></div>
    </div>
  </div>
</template>
