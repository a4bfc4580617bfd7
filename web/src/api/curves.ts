/** What the laws say of throughput and response over the loads that a run measured. */
import { useQuery } from '@tanstack/vue-query'
import { computed, toValue, type MaybeRefOrGetter } from 'vue'
import { api, body, type Schemas } from './client'

export type FittedCurves = Schemas['FittedCurves']

export function useCurves(
  id: MaybeRefOrGetter<number>,
  /** Whether they are to be drawn, and of which findings. */
  when: MaybeRefOrGetter<boolean>,
  verdict: MaybeRefOrGetter<string>,
) {
  return useQuery({
    queryKey: computed(() => ['run', toValue(id), 'curves', toValue(verdict)]),
    queryFn: () =>
      body(api.GET('/api/runs/{run_id}/curves', { params: { path: { run_id: toValue(id) } } })),
    enabled: computed(() => toValue(when)),
    staleTime: Infinity,
  })
}
