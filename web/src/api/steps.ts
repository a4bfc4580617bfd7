/** What each step of a run did in a stretch of it. */
import { keepPreviousData, useQuery } from '@tanstack/vue-query'
import { computed, toValue, type MaybeRefOrGetter } from 'vue'
import { api, body } from './client'

export interface Stretch {
  from_s: number
  until_s: number
  last_s: number
}

const LIVE_MS = 2_000

export function useSteps(
  id: MaybeRefOrGetter<number>,
  stretch: MaybeRefOrGetter<Stretch>,
  live: MaybeRefOrGetter<boolean>,
) {
  return useQuery({
    queryKey: computed(() => ['run', toValue(id), 'steps', toValue(stretch)]),
    queryFn: () =>
      body(
        api.GET('/api/runs/{run_id}/steps', {
          params: { path: { run_id: toValue(id) }, query: toValue(stretch) },
        }),
      ),
    refetchInterval: computed(() => (toValue(live) ? LIVE_MS : false)),
    placeholderData: keepPreviousData,
  })
}
