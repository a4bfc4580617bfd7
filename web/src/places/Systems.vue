<script setup lang="ts">
import { computed } from 'vue'
import { useOutlines } from '@/api/queries'
import Loading from '@/ui/Loading.vue'
import Problem from '@/ui/Problem.vue'

const outlines = useOutlines()
const systems = computed(() => {
  const found = new Map<
    string,
    { system: (typeof all)[number]['outline']['system']; used: typeof all }
  >()
  const all = outlines.data.value ?? []
  for (const e of all) {
    const entry = found.get(e.outline.system.name) ?? { system: e.outline.system, used: [] }
    entry.used.push(e)
    found.set(e.outline.system.name, entry)
  }
  return [...found.values()]
})
</script>

<template>
  <h1 class="mb-4">Systems</h1>
  <Loading v-if="outlines.isPending.value" what="the systems" />
  <Problem v-else-if="outlines.isError.value" :error="outlines.error.value" />
  <p v-else-if="!systems.length" class="max-w-prose py-8">
    A system is described in the experiment that measures it. Create an experiment, and its system
    stands here. <RouterLink to="/experiments/new">Begin with the example.</RouterLink>
  </p>
  <section v-for="{ system, used } in systems" :key="system.name" class="mb-8">
    <h2 class="break-words">{{ system.name }}</h2>
    <p class="figures break-all">{{ system.base_url }}</p>
    <div class="overflow-x-auto">
      <table class="mt-2 max-w-3xl">
        <thead>
          <tr>
            <th>Component</th>
            <th>Role</th>
            <th>Meters</th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="c in system.components" :key="c.name">
            <td>
              <code class="figures">{{ c.name }}</code>
            </td>
            <td>{{ c.role || '–' }}</td>
            <td class="figures break-all">{{ c.meters.join(', ') || 'none' }}</td>
          </tr>
        </tbody>
      </table>
    </div>
    <p class="label mt-2">
      Measured by
      <template v-for="(e, i) in used" :key="e.id">
        <RouterLink :to="`/experiments/${e.id}`">{{ e.name }}</RouterLink>{{
          i < used.length - 1 ? ', ' : '.'
        }}
      </template>
    </p>
  </section>
</template>
