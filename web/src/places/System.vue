<script setup lang="ts">
import { computed, nextTick, ref } from 'vue'
import { useRouter } from 'vue-router'
import { useRole } from '@/ui/role'
import { useArchive, useDuplicate, useMeters } from '@/api/systems'
import SystemMap, { type MapState } from '@/plates/SystemMap.vue'
import Action from '@/ui/Action.vue'
import CopyAndArchive from '@/ui/CopyAndArchive.vue'
import DraftFrame from '@/ui/DraftFrame.vue'
import Field from '@/ui/Field.vue'
import Problem from '@/ui/Problem.vue'
import TargetNotice from '@/ui/TargetNotice.vue'
import WhoDidWhat from '@/ui/WhoDidWhat.vue'
import { together } from '@/ui/meterState'
import ComponentForm from './system/ComponentForm.vue'
import Keeping from './system/Keeping.vue'
import Operations from './system/Operations.vue'
import Runners from './system/Runners.vue'
import PushToken from './system/PushToken.vue'
import SystemHeader from './system/SystemHeader.vue'
import { useDocument } from './system/document'

const props = defineProps<{ id: number }>()
const router = useRouter()
const document = useDocument(props.id)
const { doc, system, faultAt, commit } = document
const meters = useMeters(() => props.id)
const duplicate = useDuplicate(props.id)
const archive = useArchive(props.id)
const open = ref<number | null>(null)

const checks = computed(() => meters.data.value ?? [])
const components = computed(() => doc.value?.components ?? [])
const states = computed(
  () =>
    new Map<string, MapState>(
      components.value.map((c) => {
        const own = checks.value.filter((check) => check.component === c.name)
        const live = new Set(
          own.filter((k) => k.state === 'reports' && k.instance).map((k) => k.instance),
        )
        const described = c.instances ?? 1
        const instances = live.size
          ? `${live.size} of ${described} instance${described === 1 ? '' : 's'}`
          : `${described} instance${described === 1 ? '' : 's'} described`
        return [c.name, { state: meters.isPending.value ? 'asking' : together(own), instances }]
      }),
    ),
)
const summary = computed(() => {
  const sources = checks.value.filter((c) => c.state !== 'waiting')
  const good = sources.filter((c) => c.state === 'reports').length
  if (!components.value.length) return 'No component is described yet.'
  if (!checks.value.length) return 'No component has a meter yet.'
  return `${good} of ${sources.length} sources report.`
})
const unmetered = computed(() =>
  components.value.filter((c) => !c.meters?.length).map((c) => c.name),
)
const archived = computed(() => system.data.value?.archived ?? false)
const { reads } = useRole()

async function show(name: string) {
  const index = components.value.findIndex((c) => c.name === name)
  open.value = index
  await nextTick()
  window.document.getElementById(`component-${index}`)?.scrollIntoView({ behavior: 'smooth' })
}
function addComponent() {
  if (!doc.value) return
  const names = new Set(components.value.map((c) => c.name))
  let number = components.value.length + 1
  while (names.has(`component-${number}`)) number += 1
  open.value = components.value.length
  doc.value.components = [...components.value, { name: `component-${number}` }]
  void commit()
}
function removeComponent(index: number) {
  const gone = components.value[index]?.name
  doc.value?.components?.splice(index, 1)
  open.value = null
  for (const c of components.value) c.calls = c.calls?.filter((name) => name !== gone)
  void commit()
}
async function copy() {
  const made = await duplicate.mutateAsync()
  await router.push(`/systems/${made.id}`)
}
</script>

<template>
  <DraftFrame what="the system" :draft="document">
    <template #head>
      <SystemHeader :id="id" :name="system.data.value?.name ?? ''" :archived="archived" />
    </template>
    <template v-if="doc && system.data.value" #margin>
      <TargetNotice :id="id" :key="system.data.value.revision" kind="system" />
      <section class="space-y-2 border-t border-rule pt-3" aria-label="Meters">
        <h2>Meters</h2>
        <p data-testid="meter-summary">{{ summary }}</p>
        <p v-if="unmetered.length" class="text-[13.5px] break-words">
          Without a meter: {{ unmetered.join(', ') }}.
        </p>
        <Problem v-if="meters.isError.value" :error="meters.error.value" />
        <Action :busy="meters.isFetching.value" @click="meters.refetch()">Check now</Action>
        <p v-if="meters.dataUpdatedAt.value" class="label">
          Last asked at {{ new Date(meters.dataUpdatedAt.value).toLocaleTimeString() }}; asked again
          every 5 s.
        </p>
      </section>
      <PushToken
        :id="id"
        :hint="system.data.value.token_hint"
        :played="system.data.value.played"
        :traced-at="system.data.value.traced_at"
      />
      <Runners :id="id" />
      <Keeping :id="id" />
      <section class="space-y-2 border-t border-rule pt-3" aria-label="Use">
        <h2>Use</h2>
        <p v-if="system.data.value.experiments.length" class="break-words">
          Measured by
          <template v-for="(e, i) in system.data.value.experiments" :key="e.id">
            <RouterLink :to="`/experiments/${e.id}`">{{ e.name }}</RouterLink>{{
              i < system.data.value.experiments.length - 1 ? ', ' : '.'
            }}
          </template>
          <RouterLink class="block" :to="`/systems/${id}/history`">Its runs over time</RouterLink>
        </p>
        <p v-else>No experiment measures it yet.</p>
        <div class="flex flex-wrap gap-2">
          <Action
            needs="planner"
            kind="primary"
            :disabled="archived"
            @click="
              router.push({ path: '/experiments/new', query: { system: system.data.value.name } })
            "
          >
            New experiment
          </Action>
          <CopyAndArchive
            :archived="archived"
            :copying="duplicate.isPending.value"
            :archiving="archive.isPending.value"
            @copy="copy"
            @archive="archive.mutate"
          />
        </div>
        <p><a :href="`/api/systems/${id}/system.yaml`" download>system.yaml</a></p>
      </section>
      <WhoDidWhat :id="id" :key="system.data.value.revision" kind="system" />
    </template>
    <template v-if="doc && system.data.value">
      <SystemMap
        v-if="components.length"
        :components="components.map((c) => ({ name: c.name, calls: c.calls ?? [] }))"
        :states="states"
        @choose="show"
      />
      <fieldset
        :disabled="archived || reads"
        class="grid min-w-0 gap-3 sm:grid-cols-[1fr_1fr_6rem]"
      >
        <Field v-model="doc!.name" label="Name" :fault="faultAt('name')" @done="commit" />
        <Field
          v-model="doc!.base_url"
          label="Base URL"
          mono
          placeholder="http://127.0.0.1:8080"
          hint="Where its users reach it"
          :fault="faultAt('base_url')"
          @done="commit"
        />
        <Field
          v-model="doc!.currency"
          label="Currency"
          placeholder="EUR"
          :fault="faultAt('currency')"
          @done="commit"
        />
        <Field v-model="doc!.notes" class="sm:col-span-3" label="Notes" :lines="2" @done="commit" />
      </fieldset>
      <Operations
        v-model="doc!.operations"
        :fault-at="faultAt"
        :disabled="archived || reads"
        @done="commit"
      />
      <section aria-label="Components">
        <h2 class="mb-2">Components</h2>
        <p v-if="!components.length" class="mb-3 max-w-prose text-ink-2">
          A component is a part that can be scaled and metered on its own: a web server, a database,
          a cache. Add the one your users reach first.
        </p>
        <ComponentForm
          v-for="(component, i) in components"
          :key="i"
          :model-value="component"
          :index="i"
          :checks="checks"
          :open="open === i"
          @update:model-value="components[i] = $event"
          @toggle="open = $event ? i : open === i ? null : open"
          @remove="removeComponent(i)"
        />
        <Action needs="planner" class="mt-3" :disabled="archived" @click="addComponent"
          >Add a component</Action
        >
      </section>
    </template>
  </DraftFrame>
</template>
