/** What failed in a stretch of a run, by kind, step and time. */
import { keepPreviousData, useQuery } from '@tanstack/vue-query'
import { computed, toValue, type MaybeRefOrGetter } from 'vue'
import { api, body, type Schemas } from './client'
import { pace } from './steps'

export type ErrorKind = Schemas['ErrorKind']

export function useErrors(
  id: MaybeRefOrGetter<number>,
  stretch: MaybeRefOrGetter<{ from_s: number; until_s: number; last_s: number }>,
  how: { live: MaybeRefOrGetter<boolean>; when: MaybeRefOrGetter<boolean>; seconds: () => number },
) {
  return useQuery({
    queryKey: computed(() => ['run', toValue(id), 'errors', toValue(stretch)]),
    queryFn: () =>
      body(
        api.GET('/api/runs/{run_id}/errors', {
          params: { path: { run_id: toValue(id) }, query: toValue(stretch) },
        }),
      ),
    enabled: computed(() => toValue(how.when)),
    refetchInterval: computed(() => (toValue(how.live) ? pace(how.seconds()) : false)),
    placeholderData: keepPreviousData,
  })
}
