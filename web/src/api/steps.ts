/** What each step of a run did in a stretch of it. */
import { keepPreviousData, useQuery } from '@tanstack/vue-query'
import { computed, toValue, type MaybeRefOrGetter } from 'vue'
import { api, body } from './client'

export interface Stretch {
  from_s: number
  until_s: number
  last_s: number
}

/** The longer the stretch, the less a second changes of it, and the more it costs to sum it up. */
export function pace(seconds: number): number {
  return seconds > 900 ? 10_000 : seconds > 120 ? 5_000 : 3_000
}

export function useSteps(
  id: MaybeRefOrGetter<number>,
  stretch: MaybeRefOrGetter<Stretch>,
  live: MaybeRefOrGetter<boolean>,
  /** How long the stretch is. */
  seconds: MaybeRefOrGetter<number>,
) {
  return useQuery({
    queryKey: computed(() => ['run', toValue(id), 'steps', toValue(stretch)]),
    queryFn: () =>
      body(
        api.GET('/api/runs/{run_id}/steps', {
          params: { path: { run_id: toValue(id) }, query: toValue(stretch) },
        }),
      ),
    refetchInterval: computed(() => (toValue(live) ? pace(toValue(seconds)) : false)),
    placeholderData: keepPreviousData,
  })
}
