<script setup lang="ts">
import { computed, ref } from 'vue'
import { useRoute } from 'vue-router'
import { useBringBackTarget, useRemoveTarget, useTargets, type TargetLine } from '@/api/targets'
import Action from '@/ui/Action.vue'
import Loading from '@/ui/Loading.vue'
import Problem from '@/ui/Problem.vue'
import TargetCard from './targets/TargetCard.vue'
import TargetForm from './targets/TargetForm.vue'

/** The hosts that load may go to, by whom that was decided, and until when. */
const route = useRoute()
const targets = useTargets()
const back = useBringBackTarget()
const remove = useRemoveTarget()
const refused = computed(() => remove.error.value ?? back.error.value)
const way = ref<TargetLine['way'] | null>(route.query.host ? 'proven' : null)
const asked = computed(() => ({
  host: String(route.query.host ?? ''),
  port: String(route.query.port ?? ''),
}))
const own = computed(() => targets.data.value?.own_ports ?? [])
/** What was removed on this page can be had back here. */
const removed = ref<TargetLine[]>([])
const shown = computed(() => targets.data.value?.targets ?? [])
async function take(target: TargetLine) {
  if (await remove.mutateAsync(target.id).catch(() => undefined))
    removed.value = [...removed.value.filter((one) => one.id !== target.id), target]
}
async function bringBack(target: TargetLine) {
  if (await back.mutateAsync(target.id).catch(() => undefined))
    removed.value = removed.value.filter((one) => one.id !== target.id)
}
</script>

<template>
  <h1 class="mb-1">Targets</h1>
  <p class="mb-4 max-w-prose text-ink-2">
    Load goes to this machine, and to hosts that are proven to be yours or were entered by an
    administrator. Meters are read there only, too. Link-local, multicast and translated addresses,
    and those where clouds keep their machines' secrets, are never asked.
  </p>
  <Loading v-if="targets.isPending.value" what="the targets" />
  <Problem v-else-if="targets.isError.value" :error="targets.error.value" />
  <div v-else class="grid gap-8 lg:grid-cols-[2fr_1fr]">
    <section class="min-w-0" aria-label="All targets">
      <Problem v-if="refused" :error="refused" />
      <p v-for="target in removed" :key="target.id" class="mb-2" role="status">
        {{ target.name }} was removed; runs that load it end.
        <button type="button" class="text-lake underline" @click="bringBack(target)">
          Bring it back
        </button>
      </p>
      <p v-if="!shown.length" class="text-ink-2">
        None yet: load goes to this machine only. To measure a system elsewhere, prove that it is
        yours, or have it entered.
      </p>
      <ul v-else class="divide-y divide-rule border-y border-rule">
        <TargetCard
          v-for="target in shown"
          :key="target.id"
          :target="target"
          :path="targets.data.value?.proof_path ?? ''"
          :record="targets.data.value?.proof_record ?? ''"
          @remove="take(target)"
        />
      </ul>
      <p v-if="own.length" class="label mt-3 break-words">
        Never loaded on this machine: port{{ own.length > 1 ? 's' : '' }} {{ own.join(', ') }}.
      </p>
    </section>
    <aside class="min-w-0 space-y-3" aria-label="A new target">
      <h2>A new target</h2>
      <TargetForm
        v-if="way"
        :key="way"
        :way="way"
        :host="asked.host"
        :port="asked.port"
        @saved="way = null"
        @cancel="way = null"
      />
      <div v-else class="flex flex-wrap gap-2">
        <Action needs="planner" kind="primary" @click="way = 'proven'"
          >Prove that it is yours</Action
        >
        <Action needs="administrator" @click="way = 'entered'">Enter one</Action>
      </div>
    </aside>
  </div>
</template>
