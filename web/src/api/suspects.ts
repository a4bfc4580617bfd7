/** All that could have set a run's limit. */
import { useQuery } from '@tanstack/vue-query'
import { computed, toValue, type MaybeRefOrGetter } from 'vue'
import { api, body } from './client'

export function useSuspects(
  id: MaybeRefOrGetter<number>,
  /** Whether somebody looks, and at which findings. */
  when: MaybeRefOrGetter<boolean>,
  of: MaybeRefOrGetter<string>,
) {
  return useQuery({
    queryKey: computed(() => ['run', toValue(id), 'suspects', toValue(of)]),
    queryFn: () =>
      body(api.GET('/api/runs/{run_id}/suspects', { params: { path: { run_id: toValue(id) } } })),
    enabled: computed(() => toValue(when)),
    staleTime: Infinity,
  })
}
