<script setup lang="ts">
import { computed, ref } from 'vue'
import type { Schemas } from '@/api/client'
import { asProblem } from '@/api/problem'
import { useSuspects } from '@/api/suspects'
import Loading from '@/ui/Loading.vue'
import Sentence from '@/ui/Sentence.vue'
import { counted } from '@/ui/format'

/** All that could have set the limit, with what speaks for and against each. */
const props = defineProps<{ run: number; note: Schemas['Note'] }>()
defineEmits<{ show: [Schemas['Evidence']] }>()
const open = ref(false)
const all = ref(false)
const found = useSuspects(
  () => props.run,
  open,
  () => props.note.title,
)
/** So many are told at once. */
const FIRST = 4
const lines = computed(() => {
  const told = found.data.value?.lines ?? []
  return all.value ? told : told.slice(0, FIRST)
})
const more = computed(() => (found.data.value?.lines.length ?? 0) - lines.value.length)
</script>

<template>
  <details
    class="mt-1 text-[13.5px]"
    data-testid="suspects"
    @toggle="open = ($event.target as HTMLDetailsElement).open"
  >
    <summary class="label cursor-pointer">All suspects</summary>
    <template v-if="open">
      <Loading v-if="found.isPending.value" what="what speaks for and against each" />
      <p v-else-if="found.isError.value" class="label" role="status">
        {{ asProblem(found.error.value).detail }}
      </p>
      <div v-else-if="found.data.value" class="mt-1 space-y-2">
        <p v-if="found.data.value.decide" class="border-l-2 border-ochre pl-2" data-testid="decide">
          <Sentence :text="found.data.value.decide" />
        </p>
        <ol class="space-y-2">
          <li v-for="(one, i) in lines" :key="one.title + one.kind" :data-suspect="one.title">
            <p>
              <span class="figures mr-1.5 text-ink-2">{{ i + 1 }}</span>
              <button
                type="button"
                class="text-left font-semibold hover:text-copper"
                @click="$emit('show', { rows: [one.row], at: null, low: null, high: null })"
              >
                <Sentence :text="one.title" />
              </button>
              <span v-if="one.named" class="label"> the findings name it</span>
            </p>
            <ul class="space-y-0.5 pl-5">
              <li v-for="text in one.speaks_for" :key="text" class="break-words">
                <span class="text-moss" aria-label="speaks for it">+&nbsp;</span>
                <Sentence :text="text" />
              </li>
              <li v-for="text in one.speaks_against" :key="text" class="break-words text-ink-2">
                <span aria-label="speaks against it">−&nbsp;</span> <Sentence :text="text" />
              </li>
            </ul>
          </li>
        </ol>
        <button
          v-if="more > 0"
          type="button"
          class="text-copper hover:underline"
          @click="all = true"
        >
          {{ counted(more, 'more suspect') }}
        </button>
        <p v-if="!found.data.value.lines.length">
          There is no answer to hold anything against: see why above.
        </p>
        <p v-if="found.data.value.next" data-testid="next-limit">
          <Sentence :text="found.data.value.next" />
        </p>
        <p class="label">
          Each is held against the same observations; what weighs more stands first. None of it is a
          probability.
        </p>
      </div>
    </template>
  </details>
</template>
