<script setup lang="ts">
import { computed, ref } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { useDeedChoices, useDeeds, type DeedFilter } from '@/api/access'
import Action from '@/ui/Action.vue'
import Choice from '@/ui/Choice.vue'
import DeedLine from '@/ui/DeedLine.vue'
import Field from '@/ui/Field.vue'
import Loading from '@/ui/Loading.vue'
import Problem from '@/ui/Problem.vue'

/** Everything that was done, by whom: chosen by what stands in the page's address. */
const route = useRoute()
const router = useRouter()
const before = ref<number[]>([])
const asked = (name: string) => String(route.query[name] ?? '')
const chosen = computed<DeedFilter>(() => ({
  who: asked('who') || undefined,
  kind: asked('kind') || undefined,
  object: asked('object') ? Number(asked('object')) : undefined,
  text: asked('text') || undefined,
  since: asked('since') ? new Date(`${asked('since')}T00:00`).toISOString() : undefined,
}))
const deeds = useDeeds(() => ({ ...chosen.value, before: before.value.at(-1) }))
const choices = useDeedChoices()
const options = (values: string[] | undefined, all: string) => [
  { value: '', text: all },
  ...(values ?? []).map((value) => ({ value, text: value })),
]
function choose(name: string, value: unknown) {
  before.value = []
  void router.replace({ query: { ...route.query, [name]: value ? String(value) : undefined } })
}
const file = computed(() => {
  const told = Object.entries(chosen.value).filter(([, value]) => value !== undefined)
  return `/api/deeds.csv?${new URLSearchParams(told.map(([name, value]) => [name, String(value)]))}`
})
</script>

<template>
  <div class="mb-4 flex flex-wrap items-baseline justify-between gap-4">
    <h1>Who did what</h1>
    <a :href="file" download>who-did-what.csv</a>
  </div>
  <div class="mb-4 grid gap-3 sm:grid-cols-4" role="group" aria-label="Which deeds">
    <Choice
      label="Person"
      :options="options(choices.data.value?.people, 'everybody')"
      :model-value="asked('who')"
      @update:model-value="choose('who', $event)"
    />
    <Choice
      label="Kind of object"
      :options="options(choices.data.value?.kinds, 'every kind')"
      :model-value="asked('kind')"
      @update:model-value="choose('kind', $event)"
    />
    <Field
      label="Word in it"
      :model-value="asked('text')"
      @update:model-value="choose('text', $event)"
    />
    <label class="block min-w-0">
      <span class="label block">Since</span>
      <input
        type="date"
        class="field"
        :value="asked('since')"
        @change="choose('since', ($event.target as HTMLInputElement).value)"
      />
    </label>
  </div>
  <p v-if="asked('object')" class="mb-3">
    Only what was done to one {{ asked('kind') || 'object' }}.
    <button type="button" class="text-copper" @click="choose('object', undefined)">
      Show everything
    </button>
  </p>
  <Loading v-if="deeds.isPending.value" what="what was done" />
  <Problem v-else-if="deeds.isError.value" :error="deeds.error.value" />
  <p v-else-if="!deeds.data.value?.deeds.length" class="py-8 text-ink-2">
    Nothing like this was done.
  </p>
  <ol v-else class="divide-y divide-rule border-y border-rule">
    <li v-for="deed in deeds.data.value.deeds" :key="deed.id" class="py-2">
      <DeedLine :deed="deed" />
    </li>
  </ol>
  <div class="mt-4 flex gap-3">
    <Action v-if="before.length" @click="before = before.slice(0, -1)">Newer</Action>
    <Action
      v-if="deeds.data.value?.more"
      @click="before = [...before, deeds.data.value.deeds.at(-1)!.id]"
      >Older</Action
    >
  </div>
</template>
