<script setup lang="ts">
import { computed, ref } from 'vue'
import type { Fault } from '@/api/problem'
import Choice from '@/ui/Choice.vue'
import Field from '@/ui/Field.vue'
import type { ProofDoc } from './document'

/** A count on the server that should grow with each journey completed. */
defineProps<{ fault?: Fault }>()
const emit = defineEmits<{ done: [] }>()
const proof = defineModel<ProofDoc>({ required: true })
type Way = 'none' | 'counter' | 'address'
const ways = [
  { value: 'none', text: 'nothing' },
  { value: 'counter', text: 'a counter of a meter' },
  { value: 'address', text: 'a number at an address' },
]
const chosen = ref<Way | null>(null)
const way = computed<Way>(() => {
  if (chosen.value) return chosen.value
  if (proof.value.address) return 'address'
  return proof.value.metric ? 'counter' : 'none'
})
const subject = computed(() => proof.value.metric ?? proof.value.address)
const complete = computed(() =>
  way.value === 'address' ? !!proof.value.address : !!proof.value.component && !!proof.value.metric,
)

function choose(next: Way) {
  chosen.value = next
  const had = subject.value !== undefined
  proof.value = {}
  if (had) emit('done')
}
function set(key: keyof ProofDoc, value: string | number | undefined) {
  proof.value = { ...proof.value, [key]: value || undefined }
  if (complete.value) emit('done')
}
</script>

<template>
  <details>
    <summary class="label cursor-pointer">
      Proof of work done{{ subject ? `: ${subject}` : '' }}
    </summary>
    <p class="mt-2 max-w-prose text-[13.5px] text-ink-2">
      A count on the server that should grow with each journey completed. After a run both are
      compared.
    </p>
    <div class="mt-2 grid gap-3 sm:grid-cols-2">
      <Choice
        label="Counted by"
        :options="ways"
        :model-value="way"
        @update:model-value="choose(($event ?? 'none') as Way)"
      />
      <Field
        v-if="way !== 'none'"
        label="Grows per journey by"
        type="number"
        placeholder="1"
        :model-value="proof.per_journey"
        @update:model-value="set('per_journey', $event)"
      />
      <template v-if="way === 'counter'">
        <Field
          label="Component"
          mono
          :model-value="proof.component"
          @update:model-value="set('component', $event)"
        />
        <Field
          label="Counter"
          mono
          :model-value="proof.metric"
          @update:model-value="set('metric', $event)"
        />
      </template>
      <template v-else-if="way === 'address'">
        <Field
          label="Address"
          mono
          placeholder="/counts/tickets"
          hint="Asked before load begins and after it has ended."
          :model-value="proof.address"
          @update:model-value="set('address', $event)"
        />
        <Field
          label="Where in its answer, if it is not all of it"
          mono
          placeholder="$.tickets.sold"
          hint="A JSON path, or a regular expression."
          :model-value="proof.json ?? proof.regex"
          @update:model-value="
            ((proof.json = proof.regex = undefined),
            set(String($event ?? '').startsWith('$') ? 'json' : 'regex', $event))
          "
        />
      </template>
    </div>
    <p v-if="fault" class="mt-1 text-[13px] text-brick" role="alert">
      ✕ {{ fault.message }} {{ fault.mend }}
    </p>
  </details>
</template>
