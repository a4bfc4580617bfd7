/** What a run cost, and what the load that its system bears costs. */
import { useQuery } from '@tanstack/vue-query'
import { computed, toValue, type MaybeRefOrGetter } from 'vue'
import { api, body } from './client'

export function useCost(id: MaybeRefOrGetter<number>, of: MaybeRefOrGetter<string>) {
  return useQuery({
    queryKey: computed(() => ['run', toValue(id), 'cost', toValue(of)]),
    queryFn: () =>
      body(api.GET('/api/runs/{run_id}/cost', { params: { path: { run_id: toValue(id) } } })),
    staleTime: Infinity,
  })
}
