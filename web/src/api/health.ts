/** The checks of a run's levels. */
import { useQuery } from '@tanstack/vue-query'
import { computed, toValue, type MaybeRefOrGetter } from 'vue'
import { api, body } from './client'

export function useHealth(
  id: MaybeRefOrGetter<number>,
  /** Whether somebody looks, and at which findings. */
  when: MaybeRefOrGetter<boolean>,
  of: MaybeRefOrGetter<string>,
) {
  return useQuery({
    queryKey: computed(() => ['run', toValue(id), 'health', toValue(of)]),
    queryFn: () =>
      body(api.GET('/api/runs/{run_id}/health', { params: { path: { run_id: toValue(id) } } })),
    enabled: computed(() => toValue(when)),
    staleTime: Infinity,
  })
}
