/** Stretches of a run that people leave out of its findings, and the findings of the whole run. */
import { useQuery, useQueryClient } from '@tanstack/vue-query'
import { computed, toValue, type MaybeRefOrGetter } from 'vue'
import { api, body, type Schemas } from './client'
import { useJob } from './jobs'

export type SetAside = Schemas['SetAsideLine']

export function useLeaveOut(run: number) {
  const again = useAgain(run)
  return useJob(
    (stretch: { from_s: number; until_s: number; why: string }) =>
      body(
        api.POST('/api/runs/{run_id}/set-aside', {
          params: { path: { run_id: run } },
          body: stretch,
        }),
      ),
    'findings made',
    again,
  )
}

export function useCountAgain(run: number) {
  const again = useAgain(run)
  return useJob(
    (one: SetAside) =>
      body(
        api.DELETE('/api/runs/{run_id}/set-aside/{set_aside_id}', {
          params: { path: { run_id: run, set_aside_id: one.id } },
        }),
      ),
    'findings made',
    again,
  )
}

/** The findings of the whole run, where a stretch is left out of those in force. */
export function useWhole(id: MaybeRefOrGetter<number>, when: MaybeRefOrGetter<boolean>) {
  return useQuery({
    queryKey: computed(() => ['run', toValue(id), 'whole']),
    queryFn: () =>
      body(api.GET('/api/runs/{run_id}/whole', { params: { path: { run_id: toValue(id) } } })),
    enabled: computed(() => toValue(when)),
  })
}

/** Everything of a run is asked for anew: its findings have changed. */
function useAgain(run: number) {
  const client = useQueryClient()
  return () => client.invalidateQueries({ queryKey: ['run', run] })
}
