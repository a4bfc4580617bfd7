<script setup lang="ts">
import { ref } from 'vue'
import { useNewToken } from '@/api/systems'
import Action from '@/ui/Action.vue'
import Problem from '@/ui/Problem.vue'
import { when } from '@/ui/format'

/** Where metrics and traces are pushed to, and the token that is shown once. */
const props = defineProps<{ id: number; hint: string; played: boolean; tracedAt: string | null }>()
const make = useNewToken(props.id)
const fresh = ref('')
const addressOf = (what: string) => `${window.location.origin}/api/systems/${props.id}/v1/${what}`

async function renew() {
  if (props.hint && !window.confirm('Make a new token? The one in use stops working.')) return
  fresh.value = (await make.mutateAsync()).token
}
</script>

<template>
  <section class="space-y-2 border-t border-rule pt-3" aria-label="Pushed metrics and traces">
    <h2>Pushed metrics and traces</h2>
    <p class="text-[13.5px]">OTLP over HTTP, protobuf or JSON, to</p>
    <code class="figures block text-[12.5px] break-all">{{ addressOf('metrics') }}</code>
    <code class="figures block text-[12.5px] break-all">{{ addressOf('traces') }}</code>
    <p class="text-[13.5px]">
      with the header <code class="figures">Authorization: Bearer</code> and the system's token<span
        v-if="hint && !fresh"
      >
        (it ends in <code class="figures">{{ hint }}</code>)</span
      >.
    </p>
    <p class="text-[13.5px]" data-testid="traced">
      Traces of its runs
      {{ tracedAt ? `came last ${when(tracedAt)}` : 'have not come yet' }}.
      <template v-if="played">
        The practice system tells of requests by itself{{
          hint ? '' : ' once it is run'
        }}.</template
      >
    </p>
    <p v-if="fresh" class="text-[13.5px]" role="status">
      Copy it now, it is not shown again:
      <code class="figures block break-all select-all">{{ fresh }}</code>
    </p>
    <Action needs="planner" :busy="make.isPending.value" @click="renew">
      {{ hint ? 'New token' : 'Make a token' }}
    </Action>
    <Problem v-if="make.isError.value" :error="make.error.value" />
  </section>
</template>
