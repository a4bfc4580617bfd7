/** How a conclusion of a run was computed. */
import { useQuery } from '@tanstack/vue-query'
import { computed, toValue, type MaybeRefOrGetter } from 'vue'
import { api, body } from './client'

export function useHow(
  run: MaybeRefOrGetter<number>,
  kind: MaybeRefOrGetter<string>,
  when: MaybeRefOrGetter<boolean>,
) {
  return useQuery({
    queryKey: computed(() => ['run', toValue(run), 'how', toValue(kind)]),
    queryFn: () =>
      body(
        api.GET('/api/runs/{run_id}/how/{kind}', {
          params: { path: { run_id: toValue(run), kind: toValue(kind) } },
        }),
      ),
    enabled: computed(() => toValue(when)),
  })
}
