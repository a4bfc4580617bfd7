/** How long requests took in a stretch of a run, and beside it in another one. */
import { keepPreviousData, useQuery } from '@tanstack/vue-query'
import { computed, toValue, type MaybeRefOrGetter } from 'vue'
import { api, body, type Schemas } from './client'
import { pace } from './steps'

export type Distribution = Schemas['Distribution']
export type Shape = Schemas['Shape']

export interface Asked {
  of: string
  from_s: number
  until_s: number
  last_s: number
  beside_from_s: number
  beside_until_s: number
}

export function useDistribution(
  id: MaybeRefOrGetter<number>,
  asked: MaybeRefOrGetter<Asked>,
  how: { live: MaybeRefOrGetter<boolean>; when: MaybeRefOrGetter<boolean>; seconds: () => number },
) {
  return useQuery({
    queryKey: computed(() => ['run', toValue(id), 'distribution', toValue(asked)]),
    queryFn: () =>
      body(
        api.GET('/api/runs/{run_id}/distribution', {
          params: { path: { run_id: toValue(id) }, query: toValue(asked) },
        }),
      ),
    enabled: computed(() => toValue(how.when)),
    refetchInterval: computed(() => (toValue(how.live) ? pace(how.seconds()) : false)),
    placeholderData: keepPreviousData,
  })
}
