<script setup lang="ts">
import { computed, ref } from 'vue'
import type { PlanOutline } from '@/api/experiments'
import Action from '@/ui/Action.vue'
import Choice from '@/ui/Choice.vue'
import Field from '@/ui/Field.vue'
import type { Path } from '@/ui/yamlText'
import ActionsForm from './ActionsForm.vue'
import { pathText, usePlan, type CandidateDoc, type ReadyDoc } from './plan'
import { typedDuration } from './quantities'

/** One candidate, or one value of the second factor: what it is, and how it is brought under load. */
const props = defineProps<{
  path: Path
  of: CandidateDoc
  outline: PlanOutline
  /** A value of the second factor: it has no versions of its own. */
  value?: boolean
  removable: boolean
}>()
const emit = defineEmits<{ remove: [] }>()
const plan = usePlan()
const below = computed(() => pathText(props.path))
const called = computed(() => props.of.name || 'unnamed')
const components = computed(() => props.outline.system.components.map((one) => one.name))
const versions = computed(() => Object.entries(props.of.versions ?? {}))
const free = computed(() => components.value.filter((name) => !(name in (props.of.versions ?? {}))))
const other = ref('')
const types = computed(() => Object.keys(props.of.types ?? {}))

function set(field: string, value: unknown) {
  plan.set([...props.path, field], value === '' ? undefined : value)
  plan.commit()
}
function setVersions(entries: [string, unknown][]) {
  set('versions', entries.length ? Object.fromEntries(entries) : undefined)
}
/** The outline tells each with what it has. */
const feeds = computed(() => props.outline.feeds.map((f) => f.slice(0, f.lastIndexOf(': '))))
function setFeed(feed: string, other: string) {
  const rest = Object.entries(props.of.feeds ?? {}).filter(([name]) => name !== feed)
  const told = other === feed ? rest : [...rest, [feed, other]]
  set('feeds', told.length ? Object.fromEntries(told) : undefined)
}
const readyFault = (field: string) => plan.faultAt(`${below.value}.ready.${field}`)
function setReady(change: Partial<ReadyDoc>) {
  const told = { ...props.of.ready, ...change }
  const kept = Object.entries(told).filter(([, value]) => value !== undefined && value !== '')
  set('ready', told.ask ? Object.fromEntries(kept) : undefined)
}
</script>

<template>
  <div class="space-y-2 border-t border-rule pt-3" data-testid="candidate">
    <div class="grid items-end gap-x-3 gap-y-1 sm:grid-cols-[1fr_2fr_auto]">
      <Field
        label="Name"
        :fault="plan.faultAt(`${below}.name`)"
        :model-value="of.name"
        @update:model-value="set('name', $event)"
      />
      <Field
        v-if="!value"
        label="What it is, in words"
        placeholder="keeps timetables in memory"
        :model-value="of.setting"
        @update:model-value="set('setting', $event)"
      />
      <Field
        v-else
        label="Address, if another"
        mono
        :fault="plan.faultAt(`${below}.address`)"
        :model-value="of.address"
        @update:model-value="set('address', $event)"
      />
      <Action :disabled="!removable" :aria-label="`Remove ${called}`" @click="emit('remove')"
        >Remove</Action
      >
    </div>
    <p v-if="plan.faultAt(below)" class="text-[13px] text-brick" role="alert">
      ✕ {{ plan.faultAt(below)?.message }} {{ plan.faultAt(below)?.mend }}
    </p>
    <template v-if="!value">
      <div class="flex flex-wrap items-end gap-x-3 gap-y-1">
        <div v-for="[name, version] in versions" :key="name" class="flex items-end gap-1">
          <Field
            class="w-36"
            :label="`Version of ${name}`"
            mono
            :fault="plan.faultBelow(`${below}.versions.${name}`)"
            :model-value="String(version)"
            @update:model-value="
              setVersions(versions.map(([n, v]) => [n, n === name ? String($event ?? '') : v]))
            "
          />
          <Action
            :aria-label="`Remove the version of ${name}, ${called}`"
            @click="setVersions(versions.filter(([n]) => n !== name))"
            >–</Action
          >
        </div>
        <Choice
          v-if="free.length"
          v-model="other"
          class="w-48"
          label="Another version of"
          :options="[
            { value: '', text: 'choose a component' },
            ...free.map((name) => ({ value: name, text: name })),
          ]"
          @update:model-value="$event && (setVersions([...versions, [$event, '1']]), (other = ''))"
        />
        <Field
          class="min-w-48 flex-1"
          label="Address, if another"
          mono
          :placeholder="outline.system.base_url"
          :fault="plan.faultAt(`${below}.address`)"
          :model-value="of.address"
          @update:model-value="set('address', $event)"
        />
      </div>
      <p v-if="plan.faultBelow(`${below}.versions`)" class="text-[13px] text-brick" role="alert">
        ✕ {{ plan.faultBelow(`${below}.versions`)?.message }}
        {{ plan.faultBelow(`${below}.versions`)?.mend }}
      </p>
      <p v-if="types.length" class="label">
        Its own instance types, as the text says: {{ types.join(', ') }}.
      </p>
    </template>
    <div v-else-if="feeds.length > 1" class="flex flex-wrap gap-3">
      <Choice
        v-for="feed in feeds"
        :key="feed"
        class="w-56"
        :label="`Rows of ${feed}`"
        :options="
          feeds.map((name) => ({
            value: name,
            text: name === feed ? 'its own' : `those of ${name}`,
          }))
        "
        :model-value="of.feeds?.[feed] ?? feed"
        @update:model-value="setFeed(feed, $event ?? feed)"
      />
    </div>
    <details :open="!!(of.begin?.length || of.ready || of.end?.length)">
      <summary class="cursor-pointer text-ink-2">How it is brought under load</summary>
      <div class="mt-2 space-y-3 border-l border-rule pl-3">
        <ActionsForm
          title="Before its turn"
          :of="called"
          :path="[...path, 'begin']"
          :actions="of.begin ?? []"
        />
        <div class="grid items-end gap-x-3 gap-y-1 sm:grid-cols-[2fr_6rem_6rem_6rem]">
          <Field
            label="Ready once this answers"
            mono
            placeholder="/health, or https://…"
            :fault="readyFault('ask')"
            :model-value="of.ready?.ask"
            @update:model-value="setReady({ ask: String($event ?? '') })"
          />
          <template v-if="of.ready">
            <Field
              label="with status"
              type="number"
              :fault="readyFault('expect')"
              :model-value="of.ready.expect ?? 200"
              @update:model-value="setReady({ expect: Number($event) || undefined })"
            />
            <Field
              label="asked every"
              mono
              :fault="readyFault('every')"
              :model-value="of.ready.every ?? '1 s'"
              @update:model-value="setReady({ every: typedDuration(String($event ?? ''), '1 s') })"
            />
            <Field
              label="within"
              mono
              :fault="readyFault('within')"
              :model-value="of.ready.within ?? '2 min'"
              @update:model-value="
                setReady({ within: typedDuration(String($event ?? ''), '1 min') })
              "
            />
          </template>
        </div>
        <ActionsForm
          title="After its turn"
          :of="called"
          :path="[...path, 'end']"
          :actions="of.end ?? []"
        />
      </div>
    </details>
  </div>
</template>
