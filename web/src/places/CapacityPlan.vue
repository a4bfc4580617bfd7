<script setup lang="ts">
import { computed } from 'vue'
import { useRouter } from 'vue-router'
import { useArchiveCapacityPlan, useCapacityAnswer, useDuplicateCapacityPlan } from '@/api/capacity'
import { useSystems } from '@/api/systems'
import CapacityPlate from '@/plates/CapacityPlate.vue'
import Choice from '@/ui/Choice.vue'
import CopyAndArchive from '@/ui/CopyAndArchive.vue'
import DraftFrame from '@/ui/DraftFrame.vue'
import Field from '@/ui/Field.vue'
import Loading from '@/ui/Loading.vue'
import Problem from '@/ui/Problem.vue'
import WhoDidWhat from '@/ui/WhoDidWhat.vue'
import { useRole } from '@/ui/role'
import Answer from './capacity/Answer.vue'
import Basis from './capacity/Basis.vue'
import Beside from './capacity/Beside.vue'
import Expected from './capacity/Expected.vue'
import Have from './capacity/Have.vue'
import Trials from './capacity/Trials.vue'
import { useCapacityDocument } from './capacity/document'

const props = defineProps<{ id: number }>()
const router = useRouter()
const document = useCapacityDocument(props.id)
const { doc, plan, faultAt, commit } = document
const systems = useSystems()
const duplicate = useDuplicateCapacityPlan(props.id)
const archive = useArchiveCapacityPlan(props.id)
/** The plan as it was last saved: with each change of it the answer is another one. */
const state = computed(() => {
  const held = plan.data.value
  return held && `${held.revision} ${JSON.stringify(held.document)}`
})
const answer = useCapacityAnswer(() => props.id, state)
const found = computed(() => answer.data.value)
const shown = computed(() => (answer.isError.value ? undefined : found.value))
const archived = computed(() => plan.data.value?.archived ?? false)
const { reads } = useRole()
const fixed = computed(() => archived.value || reads.value)
const options = computed(() => {
  const names = (systems.data.value ?? []).map((one) => one.name)
  const own = doc.value?.system
  return (own && !names.includes(own) ? [own, ...names] : names).map((name) => ({
    value: name,
    text: name,
  }))
})

async function copy() {
  const made = await duplicate.mutateAsync()
  await router.push(`/capacity/${made.id}`)
}
</script>

<template>
  <DraftFrame what="the capacity plan" :draft="document">
    <template v-if="doc && plan.data.value" #margin>
      <Loading v-if="answer.isPending.value" what="what the plan comes to" />
      <Problem v-else-if="answer.isError.value" :error="answer.error.value" />
      <Answer v-else-if="shown" :answer="shown" :working="answer.isFetching.value" />
      <Trials v-if="shown && shown.per_hour !== null" :id="id" :archived="archived" />
      <section class="space-y-2 border-t border-rule pt-3" aria-label="Use">
        <div class="flex flex-wrap gap-2">
          <CopyAndArchive
            :archived="archived"
            :copying="duplicate.isPending.value"
            :archiving="archive.isPending.value"
            @copy="copy"
            @archive="archive.mutate"
          />
        </div>
        <p><a :href="`/api/capacity/${id}/plan.yaml`" download>capacity-plan.yaml</a></p>
      </section>
      <WhoDidWhat :id="id" :key="plan.data.value.revision" kind="capacity plan" />
    </template>
    <template v-if="doc && plan.data.value">
      <CapacityPlate v-if="shown" :answer="shown" />
      <Expected v-model="doc" :fault-at="faultAt" :disabled="fixed" @done="commit" />
      <template v-if="shown">
        <Have :answer="shown" />
        <Beside :id="id" :state="state" :answer="shown" />
      </template>
      <fieldset :disabled="fixed" class="grid min-w-0 gap-3 sm:grid-cols-2">
        <Field v-model="doc!.name" label="Name" :fault="faultAt('name')" @done="commit" />
        <Choice
          v-model="doc!.system"
          label="For the system"
          :options="options"
          :disabled="fixed"
          @done="commit"
        />
      </fieldset>
      <Basis v-model="doc" :answer="found" :fault-at="faultAt" :disabled="fixed" @done="commit" />
    </template>
  </DraftFrame>
</template>
