/** What moves with a row of a run: every metric beside it, ranked by how it goes with it. */
import { keepPreviousData, useQuery } from '@tanstack/vue-query'
import { computed, toValue, type MaybeRefOrGetter } from 'vue'
import { api, body, type Schemas } from './client'

export type Beside = Schemas['Beside']
export type Line = Schemas['MetricBeside']
export type Together = Schemas['Together']

export interface Asked {
  of: string
  row: string
  from_s: number
  until_s: number
  last_s: number
}
/** Comparing hundreds of metrics takes a second or more: that is not asked for as often as figures are. */
const AGAIN_MS = 30_000

export function useMoving(
  id: MaybeRefOrGetter<number>,
  asked: MaybeRefOrGetter<Asked>,
  how: { live: MaybeRefOrGetter<boolean>; when: MaybeRefOrGetter<boolean> },
) {
  return useQuery({
    queryKey: computed(() => ['run', toValue(id), 'moving', toValue(asked)]),
    queryFn: () =>
      body(
        api.GET('/api/runs/{run_id}/moving', {
          params: { path: { run_id: toValue(id) }, query: toValue(asked) },
        }),
      ),
    enabled: computed(() => toValue(how.when)),
    refetchInterval: computed(() => (toValue(how.live) ? AGAIN_MS : false)),
    placeholderData: keepPreviousData,
  })
}
